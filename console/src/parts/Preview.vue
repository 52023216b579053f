<script setup lang="ts">
// What a dashboard or a report would show, in a frame that can do nothing but show it.
import { computed, onUnmounted, ref, shallowRef } from 'vue'

import { api, ApiProblem, type Schemas } from '../api/client'
import { documentViewFormatValues as formats } from '../api/schema'
import Blocks from '../dashboards/Blocks.vue'
import { typedValues } from '../words'

// Where its layout is known, the blocks are shown as they come. With `asks`, values of parameters can be given beside it. What is to be shown may have to be
// prepared first.
const props = defineProps<{ order?: Schemas['PreviewOrder']; prepare?: () => Promise<Schemas['PreviewOrder']>; asks?: boolean; layout?: Schemas['DashboardLayout'][] | null }>()
const values = ref('')
const html = ref<string | null>(null)
const wrong = ref<{ detail: string; problems: Schemas['FileProblem'][] } | null>(null)
const asking = shallowRef<AbortController | null>(null)
const saving = ref(false)
onUnmounted(() => asking.value?.abort())

async function ask(format: string, signal?: AbortSignal): Promise<{ blob: Blob; name: string }> {
  const order = props.prepare ? await props.prepare() : props.order
  const answer = await api.POST('/preview', { body: { ...order, ...(props.asks ? { values: typedValues(values.value) } : {}), format }, parseAs: 'blob', signal })
  if (!answer.response.ok) {
    const problem = answer.error as Schemas['ProblemDetails'] | undefined
    throw new ApiProblem(answer.response.status, problem?.detail ?? `The service answered ${answer.response.status}.`, problem?.problems)
  }
  const name = /filename="([^"]*)"/.exec(answer.response.headers.get('Content-Disposition') ?? '')?.[1] ?? `preview.${format}`
  return { blob: answer.data as unknown as Blob, name }
}
const told = (problem: unknown) => (problem instanceof ApiProblem ? { detail: problem.message, problems: problem.problems } : { detail: String(problem), problems: [] })

/** How often the blocks were asked for, and with which values; not yet if not at all. */
const live = ref<{ asked: number; values: Record<string, unknown> } | null>(null)
const byBlocks = computed(() => props.layout?.some((one) => one.sections.length) === true)
const orderOf = (dashboard: string): Schemas['PreviewOrder'] => ({ ...props.order, dashboard, ...(props.asks ? { values: live.value!.values } : {}) })

async function show() {
  // Without a value that is needed, one error is enough.
  if (byBlocks.value && (!props.asks || values.value.trim())) {
    html.value = wrong.value = null
    live.value = { asked: (live.value?.asked ?? 0) + 1, values: typedValues(values.value) }
    return
  }
  live.value = null
  asking.value?.abort()
  const mine = (asking.value = new AbortController())
  try {
    const { blob } = await ask('html', mine.signal)
    const text = await blob.text()
    if (asking.value === mine) [html.value, wrong.value] = [text, null]
  } catch (problem) {
    if (asking.value === mine) [html.value, wrong.value] = [null, told(problem)]
  } finally {
    if (asking.value === mine) asking.value = null
  }
}
function stop() {
  asking.value?.abort()
  asking.value = null
}
async function save(format: string) {
  saving.value = true
  try {
    const { blob, name } = await ask(format)
    const link = Object.assign(document.createElement('a'), { href: URL.createObjectURL(blob), download: name })
    link.click()
    setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
  } catch (problem) {
    wrong.value = told(problem)
  } finally {
    saving.value = false
  }
}
defineExpose({ show })
</script>

<template>
  <div class="stack" aria-live="polite" :aria-busy="asking !== null">
    <div class="row spread">
      <div class="row">
        <el-button type="primary" :loading="asking !== null" @click="show">{{ html || live ? 'Refresh preview' : 'Preview' }}</el-button>
        <el-button v-if="asking" @click="stop">Stop</el-button>
        <el-input v-if="asks" v-model="values" class="values" placeholder="Values, such as port=havnes; least=3" aria-label="Values of parameters" @keydown.enter.prevent="show" />
      </div>
      <el-dropdown v-if="html || live" @command="save">
        <el-button :loading="saving">Download as …</el-button>
        <template #dropdown>
          <el-dropdown-menu><el-dropdown-item v-for="one in formats" :key="one" :command="one">{{ one.toUpperCase() }}</el-dropdown-item></el-dropdown-menu>
        </template>
      </el-dropdown>
    </div>
    <div v-if="wrong" role="alert" class="bad">
      <p v-if="!wrong.problems.length">◆ {{ wrong.detail }}</p>
      <ul v-else><li v-for="(one, index) in wrong.problems" :key="index">Line {{ one.line }}: <code v-if="one.key">{{ one.key }}</code> {{ one.message }}</li></ul>
    </div>
    <template v-else-if="live && layout">
      <template v-for="one in layout" :key="one.dashboard"><Blocks :sections="one.sections" :title="one.title" :order="orderOf(one.dashboard)" :asked="live.asked" /></template>
    </template>
    <iframe v-else-if="html" class="document" sandbox="" :srcdoc="html" title="The preview" />
    <p v-else-if="!asking" class="muted">The preview asks the sources now, for this window. Nothing is stored and nothing is sent.</p>
    <p v-if="asking && !html" class="muted">Asking the sources …</p>
  </div>
</template>

<style scoped>
.bad { color: var(--critical); overflow-wrap: anywhere; }
p, ul { margin: 0; }
.values { width: 20rem; }
</style>
