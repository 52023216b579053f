<script setup lang="ts">
// Audiences that a query names: one for each of its rows, with the columns that say who they are.
import type { Schemas } from '../api/client'
import type { Keys } from './fields'

const model = defineModel<Keys[]>({ required: true })
defineProps<{ sources: Schemas['SourceView'][] }>()
function change(index: number, key: string, value: unknown) {
  model.value = model.value.map((one, place) => (place === index ? { ...one, [key]: value } : one))
}
const columns = (one: Keys) => Object.entries((one.parameters ?? {}) as Keys).map(([name, column]) => `${name} = ${String(column)}`).join('; ')
const parsed = (text: string): Keys => Object.fromEntries(text.split(/[;\n]/).map((pair) => pair.split('=').map((part) => part.trim())).filter((pair) => pair.length === 2 && pair[0] && pair[1]))
const add = () => (model.value = [...model.value, { source: '', sql: '', name: 'name', to: 'address', parameters: {} }])
const remove = (index: number) => (model.value = model.value.filter((_, place) => place !== index))
</script>

<template>
  <div class="all">
    <fieldset v-for="(one, index) in model" :key="index">
      <legend class="small">One audience for each row</legend>
      <label><span class="small">Source</span><el-select :model-value="String(one.source ?? '')" :aria-label="`Source of audiences ${index + 1}`" placeholder="Choose" @update:model-value="change(index, 'source', $event)"><el-option v-for="source in sources" :key="source.name" :value="source.name" :label="source.title" /></el-select></label>
      <label class="wide"><span class="small">Query</span><el-input :model-value="String(one.sql ?? one.file ?? '')" type="textarea" :rows="3" :aria-label="`Query of audiences ${index + 1}`" placeholder="select name, office_address, code from ports" @update:model-value="change(index, one.file !== undefined ? 'file' : 'sql', $event)" /></label>
      <label><span class="small">Column with the name</span><el-input :model-value="String(one.name ?? '')" :aria-label="`Name column of audiences ${index + 1}`" @update:model-value="change(index, 'name', $event)" /></label>
      <label><span class="small">Column with the address</span><el-input :model-value="String(one.to ?? '')" :aria-label="`Address column of audiences ${index + 1}`" @update:model-value="change(index, 'to', $event)" /></label>
      <label><span class="small">Parameters by column</span><el-input :model-value="columns(one)" placeholder="port = code" :aria-label="`Parameters of audiences ${index + 1}`" @change="change(index, 'parameters', parsed($event))" /></label>
      <el-button :aria-label="`Remove audiences ${index + 1}`" @click="remove(index)">Remove</el-button>
    </fieldset>
    <div><el-button @click="add">Audiences from a query</el-button></div>
  </div>
</template>

<style scoped>
.all { display: grid; gap: 0.9rem; }
fieldset { border: 1px solid var(--line); border-radius: 8px; padding: 0.6rem 0.9rem 0.9rem; margin: 0; display: grid; grid-template-columns: repeat(auto-fill, minmax(13rem, 1fr)); gap: 0.8rem; align-items: end; min-width: 0; }
label { display: grid; gap: 0.3rem; min-width: 0; }
.wide { grid-column: 1 / -1; }
</style>
