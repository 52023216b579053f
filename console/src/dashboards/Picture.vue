<script setup lang="ts">
// One block with real data. The frame cannot run scripts; it is only measured.
import { onUnmounted, ref, watch } from 'vue'

import { ApiProblem, type Schemas } from '../api/client'
import { user } from '../session'
import { instant } from '../words'
import { inLetters } from './letters'
import { picture } from './pictures'
import { remember, remembered } from './remembered'

const props = defineProps<{ order: Schemas['PreviewOrder']; print: string; title: string; wrong?: string[]; small?: boolean; most?: number; remembers?: boolean }>()
/** Where asking takes longer, what was shown last stands there meanwhile. In milliseconds. */
const PATIENCE = 800

const html = ref<string | null>(null)
/** Since when what is shown is not of now. */
const since = ref<string | null>(null)
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
  const late = setTimeout(() => showLast(mine), PATIENCE)
  try {
    const page = await picture(props.order, mine.signal)
    if (asking === mine) [html.value, refused.value, since.value] = [inLetters(page), null, null]
    if (props.remembers) remember(whose(), props.order, page)
  } catch (problem) {
    if (asking === mine && !mine.signal.aborted) refused.value = problem instanceof ApiProblem ? problem.problems.map((one) => one.message).join(' ') || problem.message : String(problem)
  } finally {
    clearTimeout(late)
    if (asking === mine) busy.value = false
  }
}
const whose = () => user.value?.name ?? ''
function showLast(mine: AbortController) {
  const last = props.remembers && asking === mine && html.value === null ? remembered(whose(), props.order) : null
  if (last) [html.value, since.value] = [inLetters(last.page), last.at]
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
async function measure() {
  await frame.value?.contentDocument?.fonts?.ready
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
    <p v-if="since && html !== null && !refused && !wrong?.length" class="muted small-note" role="status">As it was on {{ instant(since) }}. Asking again …</p>
  </div>
</template>

<style scoped>
.picture { min-height: 2.5rem; position: relative; }
iframe { width: 100%; border: 0; display: block; pointer-events: none; background: transparent; transition: opacity 0.15s; }
.busy iframe { opacity: 0.45; }
.bad { color: var(--critical); margin: 0.4rem 0; padding: 0; list-style: none; overflow-wrap: anywhere; }
.waiting { margin: 0.6rem 0; }
.small-note { margin: 0.2rem 0 0; font-size: 0.86rem; }
.small { overflow: hidden; height: 7.5rem; }
.small iframe { width: 300%; transform: scale(0.3333); transform-origin: 0 0; height: 24rem !important; }
</style>
