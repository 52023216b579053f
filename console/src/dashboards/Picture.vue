<script setup lang="ts">
// One block with real data. The frame cannot run scripts; it is only measured.
import { onUnmounted, ref, watch } from 'vue'

import { ApiProblem, type Schemas } from '../api/client'
import { picture } from './pictures'

const props = defineProps<{ order: Schemas['PreviewOrder']; print: string; title: string; wrong?: string[]; small?: boolean; most?: number }>()
const html = ref<string | null>(null)
const refused = ref<string | null>(null)
const busy = ref(false)
const height = ref(120)
const frame = ref<HTMLIFrameElement | null>(null)
let asking: AbortController | null = null
let timer: ReturnType<typeof setTimeout> | undefined

async function draw() {
  asking?.abort()
  const mine = (asking = new AbortController())
  busy.value = true
  try {
    const page = await picture(props.order, mine.signal)
    if (asking === mine) [html.value, refused.value] = [page, null]
  } catch (problem) {
    if (asking === mine && !mine.signal.aborted) refused.value = problem instanceof ApiProblem ? problem.problems.map((one) => one.message).join(' ') || problem.message : String(problem)
  } finally {
    if (asking === mine) busy.value = false
  }
}
watch(
  () => props.print,
  () => {
    clearTimeout(timer)
    if (props.wrong?.length) return
    timer = setTimeout(() => void draw(), html.value ? 350 : 0)
  },
  { immediate: true },
)
watch(
  () => props.wrong?.length ?? 0,
  (now, before) => !now && before && void draw(),
)
onUnmounted(() => {
  clearTimeout(timer)
  asking?.abort()
})
function measure() {
  // What is longer is cut off here, not in the document.
  const body = frame.value?.contentDocument?.body
  if (body) height.value = Math.min(props.most ?? 640, Math.max(40, Math.ceil(body.getBoundingClientRect().height) + 4))
}
</script>

<template>
  <div class="picture" :class="{ busy, small }" :aria-busy="busy">
    <ul v-if="wrong?.length" class="bad"><li v-for="one in wrong" :key="one">◆ {{ one }}</li></ul>
    <p v-else-if="refused" class="bad">◆ {{ refused }}</p>
    <iframe v-else-if="html !== null" ref="frame" :title="title" sandbox="allow-same-origin" :srcdoc="html" :style="{ height: `${height}px` }" tabindex="-1" loading="eager" @load="measure" />
    <p v-else class="muted waiting">Asking …</p>
  </div>
</template>

<style scoped>
.picture { min-height: 2.5rem; position: relative; }
iframe { width: 100%; border: 0; display: block; pointer-events: none; background: transparent; transition: opacity 0.15s; }
.busy iframe { opacity: 0.45; }
.bad { color: var(--critical); margin: 0.4rem 0; padding: 0; list-style: none; overflow-wrap: anywhere; }
.waiting { margin: 0.6rem 0; }
.small { overflow: hidden; height: 7.5rem; }
.small iframe { width: 300%; transform: scale(0.3333); transform-origin: 0 0; height: 24rem !important; }
</style>
