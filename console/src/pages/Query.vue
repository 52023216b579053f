<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import QueryText from '../parts/QueryText.vue'
import { useLoaded } from '../parts/load'
import { measuresOf } from '../dashboards/picks'
import type { Dashboard, Keys } from '../dashboards/model'
import { addTable, example, keysOf, type Picked } from '../parts/picking'
import { isDatabase } from '../forms/sources'
import { typedValues } from '../words'

const route = useRoute()
const router = useRouter()
const name = computed(() => String(route.params.name))
const { data: sources, error, load } = useLoaded(() => take(api.GET('/sources')))
const { data: dashboards } = useLoaded(() => take(api.GET('/dashboards')))
const source = computed(() => sources.value?.find((one) => one.name === name.value) ?? null)

// The catalogue
const search = ref('')
const catalogue = ref<Schemas['CatalogueEntry'][] | null>(null)
const refused = ref<string | null>(null)
let asked = 0
let timer: ReturnType<typeof setTimeout> | undefined
async function browse() {
  const mine = ++asked
  try {
    const found = await take(api.GET('/sources/{name}/catalogue', { params: { path: { name: name.value }, query: { search: search.value } } }))
    if (mine === asked) [catalogue.value, refused.value] = [found, null]
  } catch (problem) {
    if (mine === asked) [catalogue.value, refused.value] = [[], problem instanceof Error ? problem.message : String(problem)]
  }
}
watch(search, () => {
  clearTimeout(timer)
  timer = setTimeout(() => void browse(), 250)
})
const open = ref<string | null>(null)

// The query
const text = ref('')
const picking = ref(false)
const picked = reactive<Picked>({ table: '', measures: [], group: [], time: '', overTime: false, filters: [], top: null })
const columns = computed(() => catalogue.value?.find((entry) => entry.name === picked.table)?.items ?? [])
const numeric = (kind: string) => /int|numeric|real|double|float|decimal/.test(kind)
const timely = (kind: string) => /timestamp|date/.test(kind)

const draft = (text: string, keys?: Keys) => take(api.POST('/definitions/draft', { body: { text, ...(keys ? { keys: keys as Record<string, never> } : {}) } }))
/** The service writes keys as the text that keeps them; the last that were asked for stand. */
let writing: Promise<void> = Promise.resolve()
let turn = 0
function write(keys: Keys) {
  const mine = ++turn
  writing = draft('', { query: { source: name.value, ...keys } }).then((drafted) => {
    if (mine === turn) text.value = drafted.text
  }, complain)
}
/** What is typed is not overwritten by what is still being written. */
function typed() {
  turn += 1
  picking.value = false
}
function begin(entry?: Schemas['CatalogueEntry']) {
  picking.value = false
  write(example(source.value?.kind ?? '', entry?.name))
}
function pick(entry: Schemas['CatalogueEntry']) {
  const first = entry.items.find((item) => numeric(item.kind))
  Object.assign(picked, {
    table: entry.name,
    measures: [first ? { column: first.name, with: 'mean' } : { column: '*', with: 'count' }],
    group: [],
    time: entry.items.find((item) => timely(item.kind))?.name ?? '',
    overTime: false,
    filters: [],
    top: null,
  })
  picking.value = true
}
watch([picked, picking], () => picking.value && write(keysOf(picked)), { deep: true })

// Asking
const window_ = ref<[Date, Date] | null>(null)
const values = ref('')
const busy = ref(false)
const tried = ref<Schemas['QueryAnswer'] | null>(null)
const wrong = ref<{ detail: string; problems: Schemas['FileProblem'][] } | null>(null)
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone

async function run() {
  busy.value = true
  wrong.value = null
  await writing
  try {
    tried.value = await take(
      api.POST('/queries/try', { body: { definition: text.value, from: window_.value?.[0].toISOString(), to: window_.value?.[1].toISOString(), time_zone: zone, values: typedValues(values.value), rows: 100 } }),
    )
  } catch (problem) {
    tried.value = null
    wrong.value = problem instanceof ApiProblem ? { detail: problem.message, problems: problem.problems } : { detail: String(problem), problems: [] }
  } finally {
    busy.value = false
  }
}
function byHand() {
  if (tried.value?.by_hand) {
    picking.value = false
    write({ sql: `${tried.value.by_hand}\n` })
  }
}

// Into a block
const into = reactive({ open: false, dashboard: '', query: '', title: '' })
async function put() {
  try {
    const found = await take(api.GET('/definitions/{kind}/{name}', { params: { path: { kind: 'dashboard', name: into.dashboard } } }))
    const [query, stored] = await Promise.all([draft(text.value), draft(found.text)])
    const made = addTable(stored.keys as unknown as Dashboard, (query.keys as Keys | null)?.query as Keys, into.query, into.title)
    const drafted = await draft(found.text, made as unknown as Keys)
    sessionStorage.setItem(`draft of dashboard ${into.dashboard}`, JSON.stringify({ keys: drafted.keys, text: drafted.text, basedOn: found.based_on ?? '' }))
    await router.push({ name: 'edit-dashboard', params: { name: into.dashboard } })
  } catch (problem) {
    complain(problem)
  }
}

watch(
  source,
  (found, before) => {
    if (found && found.name !== before?.name) {
      begin()
      search.value = ''
      tried.value = wrong.value = null
      void browse()
    }
  },
  { immediate: true },
)
</script>

<template>
  <Loading :error="sources ? null : error" :ready="sources !== null" @again="load">
    <p v-if="!source" class="card">There is no source “{{ name }}”. <RouterLink to="/sources">All sources</RouterLink></p>
    <div v-else class="stack">
      <div>
        <p class="small crumbs"><RouterLink to="/sources">Sources</RouterLink> / {{ source.name }}</p>
        <h1>Try a query on {{ source.title }}</h1>
      </div>
      <div class="halves">
        <section class="card stack catalogue" aria-labelledby="catalogue">
          <h2 id="catalogue">Contents of the source</h2>
          <el-input v-model="search" placeholder="Search tables, columns, metrics" aria-label="Search the catalogue" clearable />
          <p v-if="refused" class="bad" role="alert">◆ {{ refused }}</p>
          <p v-else-if="!catalogue" class="muted">Looking …</p>
          <p v-else-if="!catalogue.length" class="muted">{{ search ? 'Nothing fits.' : 'A source of this kind does not say what it has. Write the query beside.' }}</p>
          <ul v-else class="entries">
            <li v-for="entry in catalogue" :key="entry.name">
              <button type="button" class="entry" :aria-expanded="open === entry.name" @click="open = open === entry.name ? null : entry.name">
                <code>{{ entry.name }}</code> <span class="muted small">{{ entry.kind }}{{ entry.unit ? `, ${entry.unit}` : '' }}</span>
              </button>
              <div v-if="open === entry.name" class="items">
                <p v-if="entry.description" class="small">{{ entry.description }}</p>
                <p v-for="item in entry.items" :key="item.name" class="small item"><code>{{ item.name }}</code> <span class="muted">{{ item.kind }}{{ item.values.length ? `: ${item.values.slice(0, 6).join(', ')}${item.values.length > 6 ? ' …' : ''}` : '' }}</span></p>
                <div class="row">
                  <el-button v-if="isDatabase(source.kind)" size="small" type="primary" plain @click="pick(entry)">Pick from it</el-button>
                  <el-button size="small" @click="begin(entry)">Write a query</el-button>
                </div>
              </div>
            </li>
          </ul>
        </section>
        <div class="stack">
          <section v-if="picking" class="card stack" aria-labelledby="picking">
            <div class="row spread">
              <h2 id="picking">Picked from <code>{{ picked.table }}</code></h2>
              <el-button size="small" :disabled="!tried?.by_hand" title="After it has been asked once" @click="byHand">Write it by hand</el-button>
            </div>
            <div v-for="(measure, index) in picked.measures" :key="index" class="row">
              <el-select v-model="measure.with" class="short" aria-label="How" :disabled="measure.column === '*'"><el-option v-for="how in measuresOf(source?.kind ?? '')" :key="how.value" :value="how.value" :label="how.label" /></el-select>
              <span>of</span>
              <el-select v-model="measure.column" class="long" filterable aria-label="Measure">
                <el-option value="*" label="rows" />
                <el-option v-for="column in columns" :key="column.name" :value="column.name" :label="column.name" />
              </el-select>
              <el-button v-if="picked.measures.length > 1" text aria-label="Leave this measure out" @click="picked.measures.splice(index, 1)">✕</el-button>
            </div>
            <div class="row"><el-button size="small" @click="picked.measures.push({ column: columns.find((column) => numeric(column.kind))?.name ?? '*', with: 'max' })">Another measure</el-button></div>
            <label class="pair"><span>for each</span><el-select v-model="picked.group" multiple filterable placeholder="the whole" aria-label="Group by"><el-option v-for="column in columns" :key="column.name" :value="column.name" :label="column.name" /></el-select></label>
            <label class="pair"><span>in the window by</span><el-select v-model="picked.time" clearable placeholder="no column of time" aria-label="Column of time"><el-option v-for="column in columns.filter((one) => timely(one.kind))" :key="column.name" :value="column.name" :label="column.name" /></el-select></label>
            <div v-for="(filter, index) in picked.filters" :key="index" class="row">
              <span>where</span>
              <el-select v-model="filter.column" class="short" filterable aria-label="Filter by"><el-option v-for="column in columns" :key="column.name" :value="column.name" :label="column.name" /></el-select>
              <span>is</span>
              <el-input v-model="filter.is" class="long" placeholder="one, or several with commas" aria-label="Value" />
              <el-button text aria-label="Leave this filter out" @click="picked.filters.splice(index, 1)">✕</el-button>
            </div>
            <div class="row">
              <el-button size="small" @click="picked.filters.push({ column: '', is: '' })">A filter</el-button>
              <el-checkbox v-model="picked.overTime" :disabled="!picked.time">one row for each step of time</el-checkbox>
              <label v-if="!picked.overTime" class="row small">only the top <el-input-number v-model="picked.top" :min="1" :max="10000" size="small" controls-position="right" aria-label="Only the top" /></label>
            </div>
          </section>
          <section class="card stack" aria-labelledby="query">
            <h2 id="query">The query</h2>
            <QueryText v-model="text" label="The query in TOML" @input="typed" @keydown.ctrl.enter="run" />
            <div class="asked">
              <label class="small">Window, in {{ zone }}
                <el-date-picker v-model="window_" type="datetimerange" start-placeholder="24 hours ago" end-placeholder="now" aria-label="Window" />
              </label>
              <label class="small">Values of parameters
                <el-input v-model="values" placeholder="port=havnes; limit=5" />
              </label>
            </div>
            <div class="row">
              <el-button type="primary" :loading="busy" @click="run">Run the query</el-button>
              <span class="muted small">Ctrl+Enter</span>
              <el-button :disabled="!tried" @click="into.open = !into.open">Into a dashboard …</el-button>
            </div>
            <form v-if="into.open && tried" class="asked" @submit.prevent="put">
              <label class="small">Dashboard<el-select v-model="into.dashboard" aria-label="Dashboard"><el-option v-for="one in dashboards ?? []" :key="one.name" :value="one.name" :label="one.title" /></el-select></label>
              <label class="small">Title of the block<el-input v-model="into.title" /></label>
              <label class="small">Name of the query<el-input v-model="into.query" placeholder="small_letters" /></label>
              <el-button type="primary" native-type="submit" :disabled="!into.dashboard || !into.title || !/^[a-z_][a-z0-9_]*$/.test(into.query)">Add to dashboard</el-button>
            </form>
          </section>
        </div>
      </div>
      <section class="card stack" aria-labelledby="answer" aria-live="polite">
        <h2 id="answer">{{ wrong ? 'It did not work' : 'The answer' }}</h2>
        <template v-if="wrong">
          <p v-for="(one, index) in wrong.problems" :key="index" class="bad">Line {{ one.line }}: <code v-if="one.key">{{ one.key }}</code> {{ one.message }}</p>
          <p v-if="!wrong.problems.length" class="bad">◆ {{ wrong.detail }}</p>
        </template>
        <p v-else-if="!tried" class="muted">Nothing asked yet. Nothing is kept of what you try here.</p>
        <template v-else>
          <p><strong>{{ tried.row_count.toLocaleString('en') }} {{ tried.row_count === 1 ? 'row' : 'rows' }}</strong>{{ tried.truncated ? ', cut off at the row limit of the source,' : '' }} in {{ tried.milliseconds }} ms{{ tried.rows.length < tried.row_count ? `; the first ${tried.rows.length} are shown` : '' }}. <span class="muted small">Window {{ tried.window }}</span></p>
          <p v-if="tried.note" class="warning">▲ {{ tried.note }}</p>
          <div class="scroll answer">
            <table class="list">
              <thead><tr><th v-for="column in tried.columns" :key="column.name" :class="{ number: column.numeric }">{{ column.name }}<br /><span class="kind">{{ column.kind }}</span></th></tr></thead>
              <tbody><tr v-for="(row, index) in tried.rows" :key="index"><td v-for="(cell, place) in row" :key="place" :class="{ number: tried.columns[place]?.numeric }">{{ cell ?? '–' }}</td></tr></tbody>
            </table>
          </div>
          <details><summary>As the source got it</summary><pre class="sent">{{ tried.sent }}</pre></details>
          <details v-if="tried.fields"><summary>Types were found out from the rows: fields to fix them</summary><pre class="sent">{{ tried.fields }}</pre></details>
        </template>
      </section>
    </div>
  </Loading>
</template>

<style scoped>
p, .crumbs { margin: 0; }
h2 { margin: 0; }
.halves { display: grid; grid-template-columns: minmax(0, 19rem) minmax(0, 1fr); gap: 1.1rem; align-items: start; }
.catalogue { max-height: 42rem; grid-template-rows: max-content max-content minmax(0, 1fr); }
.entries { list-style: none; margin: 0; padding: 0; overflow-y: auto; max-height: 33rem; }
.entry { all: unset; cursor: pointer; display: block; padding: 0.3rem 0; overflow-wrap: anywhere; }
.entry:focus-visible { outline: 2px solid var(--sea); }
.items { padding: 0.1rem 0 0.7rem 0.8rem; display: grid; gap: 0.25rem; border-left: 2px solid var(--line); }
.item { overflow-wrap: anywhere; }
.short { width: 10rem; }
.long { flex: 1; min-width: 9rem; }
.pair { display: grid; grid-template-columns: 8.5rem minmax(0, 1fr); align-items: center; gap: 0.75rem; }
.asked { display: grid; grid-template-columns: repeat(2, minmax(0, 1fr)); gap: 0.8rem; align-items: end; }
.asked label { display: grid; gap: 0.25rem; min-width: 0; }
.asked :deep(.el-date-editor) { width: 100%; }
.bad { color: var(--critical); overflow-wrap: anywhere; }
.warning { color: var(--warning); }
.answer { max-height: 30rem; overflow: auto; }
.number { text-align: right !important; white-space: nowrap; }
.kind { font-weight: 400; }
.sent { font: 0.8rem/1.5 ui-monospace, 'DejaVu Sans Mono', monospace; white-space: pre-wrap; overflow-wrap: anywhere; margin: 0.5rem 0 0; }
summary { cursor: pointer; color: var(--sea); }
@media (max-width: 760px) { .halves, .asked, .pair { grid-template-columns: minmax(0, 1fr); } }
</style>
