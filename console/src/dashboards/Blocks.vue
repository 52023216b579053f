<script setup lang="ts">
// The sections of a dashboard, block by block as they come: a slow source keeps no other waiting.
import type { Schemas } from '../api/client'
import Picture from './Picture.vue'

const props = defineProps<{
  sections: Schemas['DashboardSection'][]
  title: string
  /** What each block is asked for with, beside its place. */
  order: Schemas['PreviewOrder']
  /** Raised to ask the sources anew. */
  asked: number
}>()
// How each section looks is its page's.
defineOptions({ inheritAttrs: false })
const orderOf = (place: Schemas['BlockPlace']) => ({ ...props.order, block: place })
const printOf = (place: Schemas['BlockPlace']) => JSON.stringify([place, props.order, props.asked])
</script>

<template>
  <section v-for="(part, number) in sections" :key="number" v-bind="$attrs" class="part" :aria-label="part.title || title">
    <h2 v-if="part.title">{{ part.title }}</h2>
    <div class="blocks">
      <div v-for="block in part.blocks" :key="`${block.place.section}.${block.place.block}`" class="block" :style="{ '--twelfths': block.twelfths }"><Picture :title="block.title || part.title || title" :order="orderOf(block.place)" :print="printOf(block.place)" :most="4000" remembers /></div>
    </div>
  </section>
</template>

<style scoped>
.part { min-width: 0; }
.part h2 { margin: 0 0 0.6rem; }
.blocks { display: grid; grid-template-columns: repeat(12, minmax(0, 1fr)); gap: 0.9rem; align-items: start; }
.block { grid-column: span var(--twelfths, 12); min-width: 0; }
@media (max-width: 760px) { .block { grid-column: 1 / -1; } }
</style>
