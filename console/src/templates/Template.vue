<script setup lang="ts">
// One template: its source and inputs, the real thing, and what becomes of it.
import { ElMessage } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import { documentViewFormatValues as formats } from '../api/schema'
import Loading from '../parts/Loading.vue'
import Preview from '../parts/Preview.vue'
import { useLoaded } from '../parts/load'
import { isAuthor, mayChange } from '../session'
import { sourceKind } from '../forms/sources'
import { missing, offered, OFTEN, orderOf, restored, sentence, windowOf } from './order'
import Sketch from './Sketch.vue'

const route = useRoute()
const router = useRouter()
const name = computed(() => String(route.params.name))
const { data: template, error, load } = useLoaded(() => take(api.GET('/templates/{name}', { params: { path: { name: name.value } } })))
const { data: sources } = useLoaded(() => take(api.GET('/sources')))
const { data: book } = useLoaded(() => take(api.GET('/people')))

const own = Intl.DateTimeFormat().resolvedOptions().timeZone
const zones = ['UTC', ...Intl.supportedValuesOf('timeZone')]
const place = computed(() => `draft template ${name.value}`)
const draft = ref(restored(sessionStorage.getItem(place.value), own))
// Nothing that was entered is lost by a reload or an expired session.
watch(draft, (now) => sessionStorage.setItem(place.value, JSON.stringify(now)), { deep: true })

const fitting = computed(() => sources.value?.filter((one) => one.kind === template.value?.source_kind) ?? [])
watch([fitting, template], ([found]) => {
  if (!draft.value.source && found.length === 1) draft.value.source = found[0]!.name
})
const title = computed(() => draft.value.title.trim() || template.value?.title || '')
const open = computed(() => (template.value ? missing(template.value, draft.value) : []))

// What the source has, for inputs that name some of it.
const catalogue = ref<Schemas['CatalogueEntry'][]>([])
watch(
  [() => draft.value.source, template],
  async ([source, found]) => {
    catalogue.value = []
    if (!source || !found?.inputs.some((input) => ['table', 'metric', 'file'].includes(input.kind))) return
    const entries = await take(api.GET('/sources/{name}/catalogue', { params: { path: { name: source }, query: {} } })).catch(() => [])
    if (draft.value.source === source) catalogue.value = entries
  },
  { immediate: true },
)

async function prepare(): Promise<Schemas['PreviewOrder']> {
  const order = { ...orderOf(draft.value), report: undefined }
  const made = await take(api.POST('/templates/{name}/fill', { params: { path: { name: name.value } }, body: order }))
  const of = (folder: string) => made.files.filter((file) => file.file.startsWith(`${folder}/`)).map((file) => file.text)
  return { definition: of('dashboards')[0], beside: of('samplers'), window: windowOf(draft.value), time_zone: draft.value.zone, values: {} }
}

const busy = ref(false)
const wrong = ref('')
async function make() {
  busy.value = true
  wrong.value = ''
  try {
    const made = await take(api.POST('/templates/{name}/use', { params: { path: { name: name.value } }, body: orderOf(draft.value) }))
    sessionStorage.removeItem(place.value)
    ElMessage({ type: 'success', message: made.report ? 'The dashboard and its report are there.' : 'The dashboard is there.', offset: 72 })
    await router.push(made.report ? { name: 'report', params: { name: made.report } } : { name: 'dashboard', params: { name: made.dashboard } })
  } catch (problem) {
    wrong.value = problem instanceof ApiProblem && problem.problems.length ? problem.problems.map((one) => one.message).join(' ') : problem instanceof Error ? problem.message : String(problem)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <Loading :error="template ? null : error" :ready="template !== null" @again="load">
    <div v-if="template" class="stack">
      <div class="head">
        <div>
          <p class="small"><RouterLink to="/templates">Ready-made reports</RouterLink></p>
          <h1>{{ template.title }}</h1>
          <p class="muted">{{ template.question }}</p>
          <p v-if="template.needs" class="small">Needs: {{ template.needs }}</p>
          <p v-if="template.instructions" class="small">{{ template.instructions.trim() }}</p>
        </div>
        <Sketch :blocks="template.blocks" />
      </div>
      <section class="card stack" aria-labelledby="reads">
        <h2 id="reads">What it reads</h2>
        <p v-if="sources && !fitting.length">There is no source of kind “{{ sourceKind(template.source_kind) }}” yet. <RouterLink v-if="mayChange('source')" :to="{ name: 'new', params: { kind: 'source' }, query: { kind: template.source_kind } }">New source</RouterLink></p>
        <div v-else class="fields">
          <label><span class="small">Source</span>
            <el-select v-model="draft.source" filterable placeholder="Choose a source" aria-label="Source"><el-option v-for="one in fitting" :key="one.name" :value="one.name" :label="one.title" /></el-select>
          </label>
          <label v-for="input in template.inputs" :key="input.name"><span class="small">{{ input.title }}</span>
            <el-input v-if="input.kind === 'list'" v-model="draft.values[input.name]" type="textarea" autosize :placeholder="input.default ?? input.example" :aria-label="input.title" />
            <el-select v-else-if="input.kind === 'choice'" :model-value="draft.values[input.name] || input.default" :aria-label="input.title" @update:model-value="draft.values[input.name] = $event"><el-option v-for="one in input.choices" :key="one" :value="one" :label="one" /></el-select>
            <el-select v-else-if="offered(input, catalogue, draft.values).length" v-model="draft.values[input.name]" filterable allow-create default-first-option :placeholder="input.default ?? 'Choose'" :aria-label="input.title"><el-option v-for="one in offered(input, catalogue, draft.values)" :key="one" :value="one" :label="one" /></el-select>
            <el-input v-else v-model="draft.values[input.name]" :placeholder="input.default ?? `such as ${input.example}`" :aria-label="input.title" />
            <span v-if="input.note" class="muted small">{{ input.note }}</span>
          </label>
        </div>
        <p v-if="template.samplers" class="muted small">{{ template.samplers === 1 ? 'A sampler begins' : `${template.samplers} samplers begin` }} to keep a history when you use it; before that its charts over time are empty.</p>
      </section>
      <section v-if="isAuthor" class="card stack" aria-labelledby="looks">
        <h2 id="looks">With your data</h2>
        <p v-if="open.length" class="muted">Still to be given: {{ open.join(', ') }}.</p>
        <Preview v-else :prepare="prepare" />
      </section>
      <section v-if="isAuthor" class="card stack" aria-labelledby="becomes">
        <h2 id="becomes">What becomes of it</h2>
        <div class="fields">
          <label><span class="small">Title</span><el-input v-model="draft.title" :placeholder="template.title" aria-label="Title" /></label>
          <div class="switch"><el-switch v-model="draft.report" active-text="Also a report that is sent" aria-label="Also a report that is sent" /></div>
        </div>
        <div v-if="draft.report" class="fields">
          <label><span class="small">How often</span><el-select v-model="draft.often" aria-label="How often"><el-option v-for="one in OFTEN" :key="one.value" :value="one.value" :label="one.label" /></el-select></label>
          <label v-if="draft.often !== 'request'"><span class="small">At</span><el-time-select v-model="draft.at" start="00:00" end="23:45" step="00:15" :clearable="false" aria-label="At" /></label>
          <label><span class="small">Time zone</span><el-select v-model="draft.zone" filterable aria-label="Time zone"><el-option v-for="one in zones" :key="one" :value="one" :label="one === own ? `${one} (yours)` : one" /></el-select></label>
          <label><span class="small">To</span>
            <el-select v-model="draft.to" multiple filterable allow-create default-first-option placeholder="Addresses, people, groups" aria-label="To">
              <el-option v-for="one in book?.people" :key="one.name" :value="one.name" :label="one.title" />
              <el-option v-for="one in book?.groups" :key="one.name" :value="one.name" :label="`${one.title} (group)`" />
            </el-select>
          </label>
          <div class="wide"><span class="small">Formats</span><el-checkbox-group v-model="draft.formats" aria-label="Formats"><el-checkbox v-for="one in formats" :key="one" :value="one" :label="one.toUpperCase()" /></el-checkbox-group></div>
        </div>
        <p class="said" aria-live="polite">{{ sentence(draft, title) }}</p>
        <p v-if="wrong" role="alert" class="bad">◆ {{ wrong }}</p>
        <div class="row"><el-button type="primary" :loading="busy" :disabled="open.length > 0" @click="make">{{ draft.report ? 'Make dashboard and report' : 'Make dashboard' }}</el-button><span v-if="open.length" class="muted small">Still to be given: {{ open.join(', ') }}.</span></div>
      </section>
    </div>
  </Loading>
</template>

<style scoped>
p, h2 { margin: 0; }
.head { display: grid; grid-template-columns: 1fr 11rem; gap: 1.5rem; align-items: start; }
.head > div { display: grid; gap: 0.35rem; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(15rem, 1fr)); gap: 0.9rem 1.1rem; align-items: start; }
.fields > label, .wide { display: grid; grid-template-columns: minmax(0, 1fr); gap: 0.3rem; align-content: start; min-width: 0; }
.wide { grid-column: 1 / -1; }
.switch { align-self: end; }
.said { font-weight: 600; }
.bad { color: var(--critical); overflow-wrap: anywhere; }
@media (max-width: 760px) { .head { grid-template-columns: 1fr; } .head svg { display: none; } }
</style>
