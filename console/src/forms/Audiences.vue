<script setup lang="ts">
// Who gets a report: each audience with its recipients. What else it says is kept.
import type { Schemas } from '../api/client'
import Values from './Values.vue'
import type { Keys } from './field'

const model = defineModel<Keys[]>({ required: true })
defineProps<{ people: { value: string; label: string }[]; names: Schemas['DefinitionName'][]; dashboards: string[] }>()
const WHEN = [
  { value: '', label: 'Always' },
  { value: 'warning', label: 'From a warning on' },
  { value: 'critical', label: 'When critical' },
]
const listed = (value: unknown): string[] => (Array.isArray(value) ? value.map(String) : value === undefined ? [] : [String(value)])

function change(index: number, key: string, value: unknown) {
  model.value = model.value.map((one, place) => {
    if (place !== index) return one
    const { [key]: _, ...rest } = one
    return value === '' || (Array.isArray(value) && !value.length && key !== 'to') ? rest : { ...one, [key]: value }
  })
}
function add() {
  const names = new Set(model.value.map((one) => one.name))
  let number = 1
  while (names.has(number === 1 ? 'Recipients' : `Recipients ${number}`)) number += 1
  model.value = [...model.value, { name: number === 1 ? 'Recipients' : `Recipients ${number}`, to: [] }]
}
const remove = (index: number) => (model.value = model.value.filter((_, place) => place !== index))
</script>

<template>
  <div class="all">
    <fieldset v-for="(one, index) in model" :key="index">
      <legend class="small">{{ String(one.name || `Audience ${index + 1}`) }}</legend>
      <label><span class="small">Name</span><el-input :model-value="String(one.name ?? '')" :aria-label="`Name of audience ${index + 1}`" @update:model-value="change(index, 'name', $event)" /></label>
      <label class="to"><span class="small">To</span>
        <el-select :model-value="listed(one.to)" multiple filterable allow-create default-first-option placeholder="People, groups, addresses" :aria-label="`Recipients of ${String(one.name)}`" @update:model-value="change(index, 'to', $event)"><el-option v-for="person in people" :key="person.value" :value="person.value" :label="person.label" /></el-select>
      </label>
      <label><span class="small">Only</span><el-select :empty-values="[null, undefined]" :model-value="String(one['only-when'] ?? '')" :aria-label="`When ${String(one.name)} gets it`" @update:model-value="change(index, 'only-when', $event)"><el-option v-for="when in WHEN" :key="when.value" :value="when.value" :label="when.label" /></el-select></label>
      <el-button :aria-label="`Remove audience ${String(one.name)}`" @click="remove(index)">Remove</el-button>
      <details class="more" :open="Object.keys(one).some((key) => ['cc', 'bcc', 'channels', 'parameters', 'together'].includes(key))"><summary class="small">What it sees, copies and channels</summary>
        <div class="inner">
          <Values :model-value="(one.parameters as Keys) ?? {}" :dashboards="dashboards" :whose="String(one.name)" @update:model-value="change(index, 'parameters', Object.keys($event).length ? $event : '')" />
          <label v-for="copy in ['cc', 'bcc']" :key="copy"><span class="small">{{ copy.toUpperCase() }}</span><el-select :model-value="listed(one[copy])" multiple filterable allow-create default-first-option placeholder="Nobody" :aria-label="`${copy.toUpperCase()} of ${String(one.name)}`" @update:model-value="change(index, copy, $event)"><el-option v-for="person in people" :key="person.value" :value="person.value" :label="person.label" /></el-select></label>
          <label><span class="small">Channels</span><el-select :model-value="listed(one.channels)" multiple filterable placeholder="None" :aria-label="`Channels of ${String(one.name)}`" @update:model-value="change(index, 'channels', $event)"><el-option v-for="channel in names.filter((known) => known.kind === 'channel')" :key="channel.name" :value="channel.name" :label="channel.title" /></el-select></label>
          <el-checkbox :model-value="one.together === true" label="One mail that names them all" @update:model-value="change(index, 'together', $event || '')" />
        </div>
      </details>
    </fieldset>
    <p v-if="!model.length" class="muted">Nobody yet: it is made and kept, and sent to nobody.</p>
    <div><el-button @click="add">Add an audience</el-button></div>
  </div>
</template>

<style scoped>
.all { display: grid; gap: 0.9rem; }
fieldset { border: 1px solid var(--line); border-radius: 8px; padding: 0.6rem 0.9rem 0.9rem; margin: 0; display: grid; grid-template-columns: 12rem minmax(0, 1fr) 11rem auto; gap: 0.8rem; align-items: end; min-width: 0; }
.more { grid-column: 1 / -1; }
.more summary { cursor: pointer; }
.inner { display: grid; gap: 0.7rem; padding: 0.6rem 0 0; }
.inner > label:not(.el-checkbox) { display: grid; gap: 0.3rem; min-width: 0; }
fieldset > label { display: grid; grid-template-columns: minmax(0, 1fr); gap: 0.3rem; min-width: 0; }
.all > p { margin: 0; }
@media (max-width: 760px) { fieldset { grid-template-columns: minmax(0, 1fr); } }
</style>
