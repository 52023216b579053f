<script setup lang="ts">
// Blocks that a report shows otherwise than their dashboards do. What else it says of one is kept.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import type { Keys } from './field'

const model = defineModel<Keys[]>({ required: true })
const props = defineProps<{ dashboards: Schemas['DashboardView'][]; chosen: string[] }>()
const shown = computed(() => props.dashboards.filter((one) => props.chosen.includes(one.name)))
const titles = (one: Keys) => shown.value.filter((dashboard) => !one.dashboard || dashboard.name === one.dashboard).flatMap((dashboard) => dashboard.block_titles)
const WIDTHS = [
  { value: '', label: 'As it is' },
  { value: 'full', label: 'Full' },
  { value: 'three-quarters', label: 'Three quarters' },
  { value: 'two-thirds', label: 'Two thirds' },
  { value: 'half', label: 'Half' },
  { value: 'third', label: 'A third' },
  { value: 'quarter', label: 'A quarter' },
]
/** What a block can be shown as instead, with the columns that it needs then. */
const SHOWS: Record<string, { label: string; columns: { key: string; title: string; many?: boolean }[] }> = {
  '': { label: 'As it is', columns: [] },
  table: { label: 'Table', columns: [] },
  figures: { label: 'Key figures', columns: [] },
  line: { label: 'Line chart', columns: [{ key: 'time', title: 'Column of time' }, { key: 'values', title: 'Columns of values', many: true }] },
  bar: { label: 'Bar chart', columns: [{ key: 'label', title: 'Column of names' }, { key: 'values', title: 'Columns of values', many: true }] },
}
const OWN = [...new Set(Object.values(SHOWS).flatMap((show) => show.columns.map((column) => column.key)))]

function change(index: number, key: string, value: unknown) {
  model.value = model.value.map((one, place) => {
    if (place !== index) return one
    const { [key]: _, ...rest } = one
    return value === '' || value === false || (Array.isArray(value) && !value.length) ? rest : { ...rest, [key]: value }
  })
}
function showAs(index: number, show: string) {
  model.value = model.value.map((one, place) => {
    if (place !== index) return one
    const kept = Object.fromEntries(Object.entries(one).filter(([key]) => key !== 'show' && !OWN.includes(key)))
    return show ? { ...kept, show } : kept
  })
}
const rows = (text: string) => (text.trim() === '' ? '' : /^\d+$/.test(text.trim()) ? Number(text) : text.trim())
const listed = (value: unknown) => (Array.isArray(value) ? value.map(String) : value === undefined ? [] : [String(value)])
const add = () => (model.value = [...model.value, { block: '' }])
const remove = (index: number) => (model.value = model.value.filter((_, place) => place !== index))
</script>

<template>
  <div class="all">
    <fieldset v-for="(one, index) in model" :key="index">
      <legend class="small">{{ String(one.block || `Block ${index + 1}`) }}</legend>
      <label v-if="chosen.length > 1 || one.dashboard"><span class="small">Dashboard</span><el-select :model-value="String(one.dashboard ?? '')" :empty-values="[null, undefined]" :aria-label="`Dashboard of change ${index + 1}`" @update:model-value="change(index, 'dashboard', $event)"><el-option value="" label="Any of them" /><el-option v-for="dashboard in shown" :key="dashboard.name" :value="dashboard.name" :label="dashboard.title" /></el-select></label>
      <label><span class="small">Block</span><el-select :model-value="String(one.block ?? '')" filterable allow-create default-first-option placeholder="Choose" :aria-label="`Block of change ${index + 1}`" @update:model-value="change(index, 'block', $event)"><el-option v-for="title in titles(one)" :key="title" :value="title" :label="title" /></el-select></label>
      <el-checkbox :model-value="one.hide === true" label="Left out" :aria-label="`Change ${index + 1} leaves the block out`" @update:model-value="change(index, 'hide', $event)" />
      <el-button :aria-label="`Remove change ${index + 1}`" @click="remove(index)">Remove</el-button>
      <template v-if="one.hide !== true">
        <label><span class="small">Title</span><el-input :model-value="String(one.title ?? '')" placeholder="As it is" :aria-label="`Title of change ${index + 1}`" @update:model-value="change(index, 'title', $event)" /></label>
        <label><span class="small">Rows, or “all”</span><el-input :model-value="String(one.limit ?? '')" placeholder="As it is" :aria-label="`Rows of change ${index + 1}`" @update:model-value="change(index, 'limit', rows($event))" /></label>
        <label><span class="small">Width</span><el-select :model-value="String(one.width ?? '')" :empty-values="[null, undefined]" :aria-label="`Width of change ${index + 1}`" @update:model-value="change(index, 'width', $event)"><el-option v-for="width in WIDTHS" :key="width.value" :value="width.value" :label="width.label" /></el-select></label>
        <label><span class="small">Shown as</span><el-select :model-value="String(one.show ?? '')" :empty-values="[null, undefined]" :aria-label="`Shown as, of change ${index + 1}`" @update:model-value="showAs(index, $event)"><el-option v-for="(show, key) in SHOWS" :key="key" :value="key" :label="show.label" /></el-select></label>
        <label v-for="column in SHOWS[String(one.show ?? '')]?.columns ?? []" :key="column.key"><span class="small">{{ column.title }}</span>
          <el-select v-if="column.many" :model-value="listed(one[column.key])" multiple filterable allow-create default-first-option placeholder="Enter ends each" :aria-label="`${column.title} of change ${index + 1}`" @update:model-value="change(index, column.key, $event)" />
          <el-input v-else :model-value="String(one[column.key] ?? '')" :aria-label="`${column.title} of change ${index + 1}`" @update:model-value="change(index, column.key, $event)" />
        </label>
        <label class="wide"><span class="small">Note</span><el-input :model-value="String(one.note ?? '')" placeholder="As it is" :aria-label="`Note of change ${index + 1}`" @update:model-value="change(index, 'note', $event)" /></label>
      </template>
    </fieldset>
    <div><el-button @click="add">Change a block</el-button></div>
  </div>
</template>

<style scoped>
.all { display: grid; gap: 0.9rem; }
fieldset { border: 1px solid var(--line); border-radius: 8px; padding: 0.6rem 0.9rem 0.9rem; margin: 0; display: grid; grid-template-columns: repeat(auto-fill, minmax(11rem, 1fr)); gap: 0.8rem; align-items: end; min-width: 0; }
label { display: grid; gap: 0.3rem; min-width: 0; }
.wide { grid-column: 1 / -1; }
</style>
