<script setup lang="ts">
// Who gets a report: each audience with its recipients. What else it says is kept.
import type { Keys } from './fields'

const model = defineModel<Keys[]>({ required: true })
defineProps<{ people: { value: string; label: string }[] }>()
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
const values = (one: Keys) => Object.entries((one.parameters ?? {}) as Keys).map(([name, value]) => `${name}: ${String(value)}`)
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
      <p v-if="values(one).length" class="muted small">{{ values(one).join(' · ') }}</p>
    </fieldset>
    <p v-if="!model.length" class="muted">Nobody yet: it is made and kept, and sent to nobody.</p>
    <div><el-button @click="add">Add an audience</el-button></div>
  </div>
</template>

<style scoped>
.all { display: grid; gap: 0.9rem; }
fieldset { border: 1px solid var(--line); border-radius: 8px; padding: 0.6rem 0.9rem 0.9rem; margin: 0; display: grid; grid-template-columns: 12rem minmax(0, 1fr) 11rem auto; gap: 0.8rem; align-items: end; min-width: 0; }
fieldset > label { display: grid; grid-template-columns: minmax(0, 1fr); gap: 0.3rem; min-width: 0; }
fieldset p { grid-column: 1 / -1; margin: 0; }
.all > p { margin: 0; }
@media (max-width: 760px) { fieldset { grid-template-columns: minmax(0, 1fr); } }
</style>
