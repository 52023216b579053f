<script setup lang="ts">
// Values of the parameters that the chosen dashboards have, each with what it can be.
import { ref, watch } from 'vue'

import { api, take, type Schemas } from '../api/client'
import type { Keys } from './field'

const model = defineModel<Keys>({ required: true })
const props = defineProps<{ dashboards: string[]; whose?: string }>()
const found = ref<Schemas['ParameterChoices'][]>([])
let asked = 0
watch(
  () => [props.dashboards.join(' '), JSON.stringify(model.value)],
  async () => {
    const mine = ++asked
    const answers = await Promise.all(props.dashboards.map((name) => take(api.POST('/dashboards/{name}/choices', { params: { path: { name } }, body: { values: model.value as Record<string, string> } })).catch(() => [])))
    if (mine === asked) found.value = answers.flat().filter((one, index, all) => all.findIndex((other) => other.name === one.name) === index)
  },
  { immediate: true },
)
function set(one: Schemas['ParameterChoices'], value: unknown) {
  const { [one.name]: _, ...rest } = model.value
  const typed = one.kind === 'number' && String(value).trim() !== '' && Number.isFinite(Number(value)) ? Number(value) : value
  model.value = typed === '' || typed === null || typed === undefined || (Array.isArray(typed) && !typed.length) ? rest : { ...rest, [one.name]: typed }
}
const list = (value: unknown) => (Array.isArray(value) ? value.map(String) : [])
</script>

<template>
  <div v-if="found.length" class="values">
    <label v-for="one in found" :key="one.name"><span class="small">{{ one.title }}</span>
      <el-select v-if="one.kind === 'choice'" :model-value="String(model[one.name] ?? '')" filterable clearable allow-create :placeholder="one.default ?? 'as usual'" :aria-label="`${one.title}${whose ? ` of ${whose}` : ''}`" @update:model-value="set(one, $event)"><el-option v-for="choice in one.choices" :key="choice.value" :value="choice.value" :label="choice.title" /></el-select>
      <el-select v-else-if="one.kind === 'list'" :model-value="list(model[one.name])" multiple filterable allow-create default-first-option :placeholder="one.default ?? 'as usual'" :aria-label="`${one.title}${whose ? ` of ${whose}` : ''}`" @update:model-value="set(one, $event)" />
      <el-input v-else :model-value="String(model[one.name] ?? '')" :placeholder="one.default ?? ''" :aria-label="`${one.title}${whose ? ` of ${whose}` : ''}`" @update:model-value="set(one, $event)" />
    </label>
  </div>
  <p v-else class="muted small">{{ dashboards.length ? 'These dashboards have no parameters.' : 'Choose dashboards first.' }}</p>
</template>

<style scoped>
.values { display: grid; grid-template-columns: repeat(auto-fill, minmax(11rem, 1fr)); gap: 0.6rem; }
label { display: grid; gap: 0.25rem; min-width: 0; }
p { margin: 0; }
</style>
