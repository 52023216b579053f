<script setup lang="ts">
// The parameters of a dashboard: what they are called, what they can be, and where that comes from.
import { computed } from 'vue'

import type { Draft } from './draft'
import { freshName, queryName, type Keys } from './model'

const props = defineProps<{ draft: Draft }>()
const parameters = computed(() => props.draft.keys.value.parameter ?? [])
const queries = computed(() => (props.draft.keys.value.query ?? []).map((one) => one.name))
const KINDS = [
  { value: 'text', label: 'A text' },
  { value: 'number', label: 'A number' },
  { value: 'choice', label: 'One of a few' },
  { value: 'list', label: 'Several texts' },
]

function alter(index: number, what: string, change: (parameter: Keys) => void) {
  props.draft.edit((keys) => change(keys.parameter![index]!), what && `parameter ${index} ${what}`)
}
const set = (index: number, key: string, value: unknown) =>
  alter(index, key, (one) => {
    if (value === '' || value === undefined || value === null || (Array.isArray(value) && !value.length)) delete one[key]
    else one[key] = key === 'default' && one.kind === 'number' && Number.isFinite(Number(value)) ? Number(value) : value
  })
function become(index: number, kind: string) {
  alter(index, '', (one) => {
    one.kind = kind
    if (kind !== 'choice') {
      delete one.choices
      delete one['choices-from']
    } else one.choices = [String(one.default ?? 'all')]
    if (kind === 'number' && one.default !== undefined) one.default = Number(one.default) || 0
    if (kind === 'list' && one.default !== undefined) one.default = [String(one.default)]
    if (kind !== 'list' && Array.isArray(one.default)) one.default = String(one.default[0] ?? '')
  })
}
function from(index: number, query: string) {
  alter(index, '', (one) => {
    if (query) {
      one['choices-from'] = query
      delete one.choices
    } else {
      delete one['choices-from']
      one.choices = [String(one.default ?? 'all')]
    }
  })
}
const add = () => props.draft.edit((keys) => (keys.parameter ??= []).push({ name: freshName('parameter', keys.parameter.map((one) => String(one.name))), title: 'New parameter', kind: 'text', default: 'all' }))
const remove = (index: number) =>
  props.draft.edit((keys) => {
    keys.parameter!.splice(index, 1)
    if (!keys.parameter!.length) delete keys.parameter
  })
const listOf = (value: unknown) => (Array.isArray(value) ? value.map(String) : [])
</script>

<template>
  <div class="stack">
    <h3>Parameters</h3>
    <p v-if="!parameters.length" class="small muted">A parameter narrows the whole dashboard, such as to one port; each audience of a report may have its own value.</p>
    <div v-for="(one, index) in parameters" :key="index" class="one stack">
      <div class="pair">
        <label><span class="small">Title</span><el-input :model-value="String(one.title ?? '')" :aria-label="`Title of parameter ${index + 1}`" @update:model-value="set(index, 'title', $event)" /></label>
        <label><span class="small">Name</span><el-input :model-value="String(one.name)" :aria-label="`Name of parameter ${index + 1}`" @change="alter(index, 'name', (known) => (known.name = queryName($event) || known.name))" /></label>
        <label><span class="small">It is</span><el-select :model-value="String(one.kind ?? 'text')" :aria-label="`Kind of parameter ${index + 1}`" @update:model-value="become(index, $event)"><el-option v-for="kind in KINDS" :key="kind.value" :value="kind.value" :label="kind.label" /></el-select></label>
        <label><span class="small">Usually</span><el-input :model-value="listOf(one.default).join(', ') || String(one.default ?? '')" :aria-label="`Default of parameter ${index + 1}`" @update:model-value="set(index, 'default', one.kind === 'list' ? $event.split(',').map((part: string) => part.trim()).filter(Boolean) : $event)" /></label>
      </div>
      <template v-if="one.kind === 'choice'">
        <label><span class="small">Choices from</span><el-select :model-value="String(one['choices-from'] ?? '')" :empty-values="[null, undefined]" :aria-label="`Choices of parameter ${index + 1} from`" @update:model-value="from(index, $event)"><el-option value="" label="a list" /><el-option v-for="name in queries" :key="name" :value="name" :label="`the query ${name}`" /></el-select></label>
        <label v-if="!one['choices-from']"><span class="small">Choices</span><el-select :model-value="listOf(one.choices)" multiple filterable allow-create default-first-option :aria-label="`Choices of parameter ${index + 1}`" @update:model-value="set(index, 'choices', $event)" /></label>
        <p v-else class="small muted">The first column is the value, the second its title. If that query uses another parameter, these choices depend on it.</p>
      </template>
      <div><el-button size="small" type="danger" plain @click="remove(index)">Remove parameter</el-button></div>
    </div>
    <div><el-button size="small" @click="add">Add a parameter</el-button></div>
  </div>
</template>

<style scoped>
p, h3 { margin: 0; }
h3 { font-size: 0.95rem; }
.one { border-left: 2px solid var(--line); padding-left: 0.7rem; gap: 0.5rem; }
.pair { display: grid; grid-template-columns: repeat(2, minmax(0, 1fr)); gap: 0.5rem; }
label { display: grid; gap: 0.2rem; min-width: 0; }
</style>
