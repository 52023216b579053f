<script setup lang="ts">
// The parameters of a dashboard with what each can be; choices that depend on another are
// asked for again when that one is chosen.
import { reactive, ref, watch } from 'vue'

import { api, take, type Schemas } from '../api/client'

const props = defineProps<{ dashboard: string }>()
const emit = defineEmits<{ chosen: [values: Record<string, unknown>]; missing: [titles: string[]] }>()
const chosen = reactive<Record<string, string>>({})
const found = ref<Schemas['ParameterChoices'][] | null>(null)
const problem = ref<string | null>(null)
let asked = 0

async function ask() {
  const mine = ++asked
  try {
    const answer = await take(api.POST('/dashboards/{name}/choices', { params: { path: { name: props.dashboard } }, body: { values: { ...chosen } } }))
    if (mine === asked) {
      found.value = answer
      for (const one of answer) chosen[one.name] ??= one.default ?? ''
    }
  } catch (error) {
    if (mine === asked) problem.value = error instanceof Error ? error.message : String(error)
  }
}
function choose(name: string) {
  // What depended on it may not fit any more.
  for (const one of found.value ?? []) if (one.depends_on.includes(name)) chosen[one.name] = one.default ?? ''
  void ask()
}
watch(() => props.dashboard, () => void ask(), { immediate: true })
// As the service wants them: numbers as numbers, lists as lists; what is empty is left to its default.
watch([chosen, found], () => {
  const typed = (kind: string, text: string) => (kind === 'number' ? Number(text) : kind === 'list' ? text.split(',').map((item) => item.trim()) : text)
  emit('chosen', Object.fromEntries((found.value ?? []).filter((one) => chosen[one.name]).map((one) => [one.name, typed(one.kind, chosen[one.name]!)])))
  emit('missing', (found.value ?? []).filter((one) => one.default === null && !chosen[one.name]).map((one) => one.title))
})
</script>

<template>
  <p v-if="problem" role="alert" class="bad">◆ {{ problem }}</p>
  <p v-else-if="found && !found.length" class="muted">This dashboard has no parameters.</p>
  <div v-else class="pickers">
    <label v-for="one in found ?? []" :key="one.name">
      <span class="small">{{ one.title }} <span class="muted"><code>{{ one.name }}</code>{{ one.default === null ? ', required' : '' }}{{ one.depends_on.length ? `, depends on ${one.depends_on.join(', ')}` : '' }}</span></span>
      <el-select v-if="one.kind === 'choice'" v-model="chosen[one.name]" filterable :aria-label="one.title" @change="choose(one.name)">
        <el-option v-for="choice in one.choices" :key="choice.value" :value="choice.value" :label="choice.title" />
      </el-select>
      <el-input v-else v-model="chosen[one.name]" :aria-label="one.title" :placeholder="one.kind === 'list' ? 'several, with commas' : one.kind" @change="choose(one.name)" />
      <span v-if="one.problem" class="small bad">◆ {{ one.problem }}</span>
    </label>
  </div>
</template>

<style scoped>
.pickers { display: grid; grid-template-columns: repeat(auto-fill, minmax(14rem, 1fr)); gap: 0.9rem; }
label { display: grid; gap: 0.3rem; }
.bad { color: var(--critical); overflow-wrap: anywhere; margin: 0; }
</style>
