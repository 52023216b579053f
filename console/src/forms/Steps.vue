<script setup lang="ts">
// What is done on a live page, step by step.
import type { Keys } from './field'
import { isReference, isSecretStep } from './fields'

const model = defineModel<Keys[]>({ required: true })
const props = defineProps<{ title: string; secret?: boolean }>()
const KINDS = [
  { value: 'open', label: 'Open', placeholder: '/sign-in' },
  { value: 'fill', label: 'Fill', placeholder: 'Label of the field, or a selector' },
  { value: 'press', label: 'Press', placeholder: 'Words of the button, or a selector' },
  { value: 'wait-for', label: 'Wait for', placeholder: 'Selector, such as #board' },
]
const kindOf = (step: Keys) => KINDS.find((kind) => kind.value in step) ?? KINDS[2]!
const change = (alter: (steps: Keys[]) => void) => {
  const steps = model.value.map((step) => ({ ...step }))
  alter(steps)
  model.value = steps
}
const become = (index: number, kind: string) => change((steps) => {
  const old = steps[index]!
  const words = String(old[kindOf(old).value] ?? '')
  steps[index] = kind === 'fill' ? { fill: words, with: '' } : { [kind]: words }
})
const say = (index: number, key: string, words: string) => change((steps) => (steps[index]![key] = words))
const drop = (index: number) => change((steps) => steps.splice(index, 1))
const move = (index: number, by: number) => change((steps) => steps.splice(index + by, 0, ...steps.splice(index, 1)))
const hides = (step: Keys) => props.secret === true && isSecretStep(step) && !isReference(String(step.with ?? ''))
</script>

<template>
  <div class="steps" role="group" :aria-label="title">
    <div v-for="(step, index) in model" :key="index" class="row line">
      <el-select class="kind" :model-value="kindOf(step).value" :aria-label="`What step ${index + 1} does`" @update:model-value="become(index, $event)"><el-option v-for="kind in KINDS" :key="kind.value" :value="kind.value" :label="kind.label" /></el-select>
      <el-input :model-value="String(step[kindOf(step).value] ?? '')" :placeholder="kindOf(step).placeholder" :aria-label="`Where step ${index + 1} does it`" @update:model-value="say(index, kindOf(step).value, $event)" />
      <el-input v-if="'fill' in step" :model-value="String(step.with ?? '')" :type="hides(step) ? 'password' : 'text'" autocomplete="new-password" :placeholder="secret ? 'Value, or secret:name' : 'Value'" :aria-label="`What step ${index + 1} fills in`" @update:model-value="say(index, 'with', $event)" />
      <el-button size="small" :disabled="index === 0" :aria-label="`Step ${index + 1} earlier`" @click="move(index, -1)">↑</el-button>
      <el-button size="small" :aria-label="`Remove step ${index + 1}`" @click="drop(index)">×</el-button>
    </div>
    <el-button size="small" @click="change((steps) => steps.push({ press: '' }))">+ step</el-button>
  </div>
</template>

<style scoped>
.steps { display: grid; gap: 0.4rem; justify-items: start; width: 100%; }
.line { display: flex; flex-wrap: nowrap; gap: 0.35rem; width: 100%; }
.kind { flex: 0 0 7rem; }
</style>
