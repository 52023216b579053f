<script setup lang="ts">
// Audiences that a query names: one for each of its rows, with the columns that say who they are.
import type { Schemas } from '../api/client'
import SimpleInput from './SimpleInput.vue'
import { kindOf, type Field, type Keys, type Value } from './field'
import { asked, entered, withoutOthers } from './fields'
import { askOf } from './sources'

const model = defineModel<Keys[]>({ required: true })
const props = defineProps<{ sources: Schemas['SourceView'][]; names: Schemas['DefinitionName'][] }>()
const ASK = askOf('one')
const SOURCE: Field = { key: 'one.source', title: 'Source', as: 'named', of: 'source', needed: true }
const last = (field: Field) => field.key.slice('one.'.length)
const ONLY: Field = { key: 'one.only-when', title: 'Only', as: 'choice', choices: [{ value: '', label: 'Always' }, { value: 'warning', label: 'From a warning on' }, { value: 'critical', label: 'When critical' }] }
const CHANNELS: Field = { key: 'one.channels', title: 'Channels', as: 'texts' }
const TOGETHER: Field = { key: 'one.together', title: 'One mail that names them all', as: 'truth' }
/** What the source of an audience is asked. */
const ask = (one: Keys): Field[] => asked(withoutOthers(ASK, { one }), { [kindOf('one.source')]: props.sources.find((source) => source.name === one.source)?.kind ?? '', 'one.format': String(one.format ?? 'csv') })
const valueOf = (one: Keys, field: Field): Value => entered([field], { one })[field.key] ?? ''

function change(index: number, key: string, value: unknown) {
  model.value = model.value.map((one, place) => {
    if (place !== index) return one
    const { [key]: _, ...rest } = one
    return value === '' || value === false || (Array.isArray(value) && !value.length) ? rest : { ...rest, [key]: value }
  })
}
const columns = (one: Keys) => Object.entries((one.parameters ?? {}) as Keys).map(([name, column]) => `${name} = ${String(column)}`).join('; ')
const parsed = (text: string): Keys => Object.fromEntries(text.split(/[;\n]/).map((pair) => pair.split('=').map((part) => part.trim())).filter((pair) => pair.length === 2 && pair[0] && pair[1]))
const add = () => (model.value = [...model.value, { source: '', name: 'name', to: 'address', parameters: {} }])
const remove = (index: number) => (model.value = model.value.filter((_, place) => place !== index))
</script>

<template>
  <div class="all">
    <fieldset v-for="(one, index) in model" :key="index">
      <legend class="small">One audience for each row</legend>
      <label><span class="small">Source</span><SimpleInput :model-value="String(one.source ?? '')" :field="SOURCE" :names="names" :sources="sources" :label="`Source of audiences ${index + 1}`" @update:model-value="change(index, 'source', $event)" /></label>
      <component :is="field.as === 'json-fields' ? 'div' : 'label'" v-for="field in ask(one)" :key="field.key" class="asks" :class="{ wide: ['long', 'json-fields'].includes(field.as) }"><span class="small">{{ field.title }}</span><SimpleInput :model-value="valueOf(one, field)" :field="field" :label="`${field.title} of audiences ${index + 1}`" @update:model-value="change(index, last(field), $event)" /></component>
      <label><span class="small">Column with the name</span><el-input :model-value="String(one.name ?? '')" :aria-label="`Name column of audiences ${index + 1}`" @update:model-value="change(index, 'name', $event)" /></label>
      <label><span class="small">Column with the address</span><el-input :model-value="String(one.to ?? '')" :aria-label="`Address column of audiences ${index + 1}`" @update:model-value="change(index, 'to', $event)" /></label>
      <label><span class="small">Parameters by column</span><el-input :model-value="columns(one)" placeholder="port = code" :aria-label="`Parameters of audiences ${index + 1}`" @change="change(index, 'parameters', parsed($event))" /></label>
      <label><span class="small">Only</span><SimpleInput :model-value="valueOf(one, ONLY)" :field="ONLY" :label="`When audiences ${index + 1} get it`" @update:model-value="change(index, 'only-when', $event)" /></label>
      <label><span class="small">Channels</span><SimpleInput :model-value="valueOf(one, CHANNELS)" :field="CHANNELS" :label="`Channels of audiences ${index + 1}`" @update:model-value="change(index, 'channels', $event)" /></label>
      <SimpleInput :model-value="valueOf(one, TOGETHER)" :field="TOGETHER" @update:model-value="change(index, 'together', $event)" />
      <el-button :aria-label="`Remove audiences ${index + 1}`" @click="remove(index)">Remove</el-button>
    </fieldset>
    <div><el-button @click="add">Audiences from a query</el-button></div>
  </div>
</template>

<style scoped>
.all { display: grid; gap: 0.9rem; }
fieldset { border: 1px solid var(--line); border-radius: 8px; padding: 0.6rem 0.9rem 0.9rem; margin: 0; display: grid; grid-template-columns: repeat(auto-fill, minmax(13rem, 1fr)); gap: 0.8rem; align-items: end; min-width: 0; }
label, .asks { display: grid; gap: 0.3rem; min-width: 0; }
.wide { grid-column: 1 / -1; }
</style>
