<script setup lang="ts">
// A choice of columns; those that do not suit say why instead of being missing.
import { computed } from 'vue'

import { unfit, type Column, type Wanted } from './shows'

const props = defineProps<{ columns: Column[]; wanted: Wanted; modelValue: unknown; label?: string }>()
const emit = defineEmits<{ 'update:modelValue': [value: unknown] }>()
const many = computed(() => props.wanted.many === true)
const value = computed(() => {
  const now = props.modelValue
  if (many.value) return Array.isArray(now) ? (now as string[]) : now ? [String(now)] : []
  return Array.isArray(now) ? String(now[0] ?? '') : String(now ?? '')
})
const entries = computed(() => {
  if (props.wanted.choices) return props.wanted.choices.map((one) => ({ name: one.value, label: one.label, kind: '', why: null }))
  const known = props.columns.map((column) => ({ name: column.name, kind: column.kind, why: unfit(column, props.wanted) }))
  const named = (Array.isArray(value.value) ? value.value : [value.value]).filter((name) => name && !known.some((one) => one.name === name))
  const all = [...known.filter((one) => !one.why), ...named.map((name) => ({ name, kind: 'not in the answer', why: null })), ...known.filter((one) => one.why)]
  return all.map((one) => ({ ...one, label: one.name }))
})
// One column stands alone, as people write it.
const send = (found: unknown) => emit('update:modelValue', Array.isArray(found) && found.length === 1 && props.wanted.key === 'value' ? found[0] : found)
</script>

<template>
  <el-select :model-value="value" :multiple="many" :clearable="!wanted.needed" filterable :aria-label="label ?? wanted.label" :placeholder="wanted.needed ? 'Choose' : many ? 'All' : 'None'" @update:model-value="send">
    <el-option v-for="one in entries" :key="one.name" :value="one.name" :label="one.label" :disabled="one.why !== null" :title="one.why ?? one.kind">
      <span>{{ one.label }}</span> <span class="muted small">{{ one.why ? 'does not fit' : one.kind }}</span>
    </el-option>
  </el-select>
</template>
