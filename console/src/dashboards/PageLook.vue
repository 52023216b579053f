<script setup lang="ts">
// How a live page looks now, with its parts to press on, or what was there instead of it.
import { computed, onUnmounted, ref, watch } from 'vue'

import { api, take, type Schemas } from '../api/client'
import type { Keys } from './model'
import { pieceAt, type Piece } from './page'

const props = defineProps<{ keys: Keys; when?: Pick<Schemas['PageOrder'], 'window' | 'time_zone' | 'values'>; chosen?: string[] }>()
const emit = defineEmits<{ press: [piece: Piece]; looked: [look: Schemas['PageLook']] }>()
const look = ref<Schemas['PageLook'] | null>(null)
const wrong = ref<string | null>(null)
const looking = ref(false)
const under = ref<Piece | null>(null)
const steps = computed(() => (Array.isArray(props.keys.do) ? props.keys.do.length : 0))
const until = ref<number | null>(null)
watch(steps, () => (until.value = null))
let mine = 0
onUnmounted(() => (mine += 1))

async function see() {
  const asked = ++mine
  looking.value = true
  wrong.value = null
  try {
    const found = await take(api.POST('/pages/look', { body: { ...props.when, keys: props.keys as unknown as Record<string, never>, steps: until.value } }))
    if (asked !== mine) return
    look.value = found
    emit('looked', found)
  } catch (problem) {
    if (asked === mine) wrong.value = problem instanceof Error ? problem.message : String(problem)
  } finally {
    if (asked === mine) looking.value = false
  }
}
defineExpose({ see })

const box = (piece: Piece) => {
  const { width, height } = look.value!
  return { left: `${(piece.x / width) * 100}%`, top: `${(piece.y / height) * 100}%`, width: `${(piece.width / width) * 100}%`, height: `${(piece.height / height) * 100}%` }
}
const at = (event: MouseEvent): Piece | null => {
  const frame = (event.currentTarget as HTMLElement).getBoundingClientRect()
  const scale = look.value!.width / frame.width
  return pieceAt(look.value!.parts, (event.clientX - frame.left) * scale, (event.clientY - frame.top) * scale)
}
const kept = computed(() => (look.value?.parts ?? []).filter((piece) => props.chosen?.includes(piece.selector)))
const total = computed(() => (look.value?.steps ?? []).reduce((sum, step) => sum + step.seconds, 0))
function press(piece: Piece | null) {
  if (piece) emit('press', piece)
}
</script>

<template>
  <div class="stack look">
    <div class="row">
      <el-button size="small" type="primary" plain :loading="looking" @click="see">{{ look ? 'Look again' : 'Look at the page' }}</el-button>
      <label v-if="steps" class="row small"><span>after</span><el-select :model-value="until ?? steps" class="few" size="small" aria-label="After which step" @update:model-value="until = $event === steps ? null : $event"><el-option v-for="count in steps + 1" :key="count" :value="count - 1" :label="count - 1 === steps ? 'all steps' : count === 1 ? 'no step' : `${count - 1} of ${steps}`" /></el-select></label>
      <span v-if="looking" class="muted small" role="status">The browser opens it, signs in and waits until it has finished …</span>
    </div>
    <p v-if="wrong" class="bad small" role="alert">◆ {{ wrong }}</p>
    <template v-if="look">
      <p v-if="look.problem" class="bad small" role="alert">◆ {{ look.problem }}</p>
      <p v-else class="muted small">{{ look.title || look.address }}<template v-if="chosen">. Press on a part to keep it by itself; press again to let it go.</template></p>
      <p v-if="look.note" class="small">▲ {{ look.note }}</p>
      <div v-if="look.picture" class="frame" tabindex="0" role="region" aria-label="The page as it looks" :class="{ pressed: chosen && !look.problem }">
        <!-- Whoever has no pointer chooses from the list beneath. -->
        <div class="page" @mousemove="under = chosen && !look.problem ? at($event) : null" @mouseleave="under = null" @click="chosen && !look.problem && press(at($event))">
          <img :src="`data:image/png;base64,${look.picture}`" :alt="look.problem ? 'What was there instead' : `The page ${look.title}`" />
          <span v-for="piece in kept" :key="piece.selector" class="kept" :style="box(piece)" />
          <span v-if="under" class="under" :style="box(under)"><em>{{ under.title }}</em></span>
        </div>
      </div>
      <details v-if="chosen && look.parts.length" class="small"><summary>Parts of the page ({{ look.parts.length }})</summary>
        <ul class="parts"><li v-for="piece in look.parts" :key="piece.selector"><el-checkbox :model-value="chosen.includes(piece.selector)" :label="piece.title" @change="press(piece)" /> <code class="muted">{{ piece.selector }}</code></li></ul>
      </details>
      <details class="small"><summary>{{ look.steps.length }} steps, {{ total.toFixed(1) }} s</summary>
        <ol class="parts"><li v-for="(step, index) in look.steps" :key="index">{{ step.what }} <span class="muted">{{ step.seconds.toFixed(1) }} s</span></li></ol>
      </details>
    </template>
  </div>
</template>

<style scoped>
p { margin: 0; overflow-wrap: anywhere; }
.look { gap: 0.5rem; }
.few { width: 7.5rem; }
.bad { color: var(--critical); }
.frame { max-height: 60vh; overflow-y: auto; border: 1px solid var(--line); border-radius: 8px; }
.page { position: relative; }
.pressed .page { cursor: crosshair; }
.page img { display: block; width: 100%; height: auto; }
.page span { position: absolute; pointer-events: none; border-radius: 3px; }
.kept { outline: 3px solid var(--sea); background: color-mix(in srgb, var(--sea) 14%, transparent); }
.under { outline: 2px dashed var(--sea); background: color-mix(in srgb, var(--sea) 8%, transparent); }
.under em { position: absolute; left: 0; bottom: 100%; font: 600 0.75rem/1.3 inherit; font-style: normal; background: var(--sea); color: #fff; padding: 0.05rem 0.4rem; white-space: nowrap; border-radius: 3px; }
.parts { margin: 0.3rem 0 0; padding-left: 1.1rem; max-height: 14rem; overflow-y: auto; overflow-wrap: anywhere; }
</style>
