<script setup lang="ts">
// Which columns a row of JSON has: each with its name, where it stands in the row, and its type.
import type { Keys } from './field'

const model = defineModel<Keys[]>({ required: true })
defineProps<{ title: string }>()
const KINDS = ['text', 'number', 'integer', 'decimal', 'instant', 'date', 'boolean']

function change(index: number, key: string, value: unknown) {
  model.value = model.value.map((one, place) => (place === index ? { ...one, [key]: value } : one))
}
// A column may stand in what is around the row.
const pathKey = (one: Keys) => (one.outer === undefined ? 'path' : 'outer')
const add = () => (model.value = [...model.value, { name: '', path: '$', kind: 'text' }])
const remove = (index: number) => (model.value = model.value.filter((_, place) => place !== index))
</script>

<template>
  <div class="columns" role="group" :aria-label="title">
    <div v-for="(one, index) in model" :key="index" class="line">
      <el-input :model-value="String(one.name ?? '')" placeholder="name" :aria-label="`Name of column ${index + 1}`" @update:model-value="change(index, 'name', $event)" />
      <el-input :model-value="String(one[pathKey(one)] ?? '')" placeholder="$.value" :aria-label="`JSONPath of column ${index + 1}`" @update:model-value="change(index, pathKey(one), $event)" />
      <el-select :model-value="String(one.kind ?? 'text')" :aria-label="`Type of column ${index + 1}`" @update:model-value="change(index, 'kind', $event)"><el-option v-for="kind in KINDS" :key="kind" :value="kind" :label="kind" /></el-select>
      <el-button :aria-label="`Remove column ${index + 1}`" @click="remove(index)">×</el-button>
    </div>
    <div><el-button size="small" @click="add">+ column</el-button></div>
  </div>
</template>

<style scoped>
.columns { display: grid; gap: 0.4rem; }
.line { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr) 8rem auto; gap: 0.35rem; }
@media (max-width: 760px) { .line { grid-template-columns: minmax(0, 1fr); } }
</style>
