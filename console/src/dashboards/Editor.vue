<script setup lang="ts">
// A dashboard as it looks, with what is pressed on beside it: form and text of the same draft.
import { ElMessage, ElMessageBox } from 'element-plus'
import { computed, nextTick, onUnmounted, ref, watch } from 'vue'
import { onBeforeRouteLeave, useRoute, useRouter } from 'vue-router'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import { inNameSpace } from '../forms/fields'
import Loading from '../parts/Loading.vue'
import QueryText from '../parts/QueryText.vue'
import { useLoaded } from '../parts/load'
import { newName } from '../session'
import AddBlock from './AddBlock.vue'
import BlockForm from './BlockForm.vue'
import DataForm from './DataForm.vue'
import ParameterForm from './ParameterForm.vue'
import Picture from './Picture.vue'
import { problemsOf, useDraft } from './draft'
import { add, addSection, at, copy, cut, fingerprint, hide, move, needs, queryOf, remove, removeSection, resize, same, shift, shiftSection, width, type Block, type Dashboard, type Place, type Query } from './model'
import { become, fitting, sentence } from './shows'
import { WINDOWS, windowKeys } from './windows'

const route = useRoute()
const router = useRouter()
const fresh = computed(() => route.name === 'new-dashboard')
const name = computed(() => String(route.params.name ?? ''))
const draft = useDraft(() => `draft of dashboard ${name.value}`)
const { keys, text, synced, problems, changed } = draft
const file = ref('')

const EMPTY: Dashboard = { dashboard: { name: newName('New dashboard'), title: 'New dashboard' }, section: [{ title: 'Overview', block: [] }] }
const { data, error, load } = useLoaded(async () => {
  if (fresh.value) {
    await draft.begin({ text: '', basedOn: '' }, EMPTY)
    return true
  }
  const found = await take(api.GET('/definitions/{kind}/{name}', { params: { path: { kind: 'dashboard', name: name.value } } }))
  file.value = found.file
  await draft.begin({ text: found.text, basedOn: found.based_on ?? '' })
  return true
})
const { data: sources } = useLoaded(() => take(api.GET('/sources')))
const { data: dashboards } = useLoaded(() => take(api.GET('/dashboards')))
const others = computed(() => (dashboards.value ?? []).filter((one) => one.name !== keys.value.dashboard.name).flatMap((one) => one.block_titles.map((title) => `${one.name} / ${title}`)))

// What it is looked at for
const own = Intl.DateTimeFormat().resolvedOptions().timeZone
const chosen = ref('PT24H')
const zone = ref(own)
const values = ref<Record<string, string>>({})
// A report that shows the dashboard knows best in which zone its readers are.
const { data: reports } = useLoaded(() => take(api.GET('/report-names')))
watch([reports, dashboards], ([found, known]) => {
  const used = known?.find((one) => one.name === name.value)?.used_by ?? []
  zone.value = found?.find((report) => used.includes(report.name))?.time_zone ?? zone.value
})
const order = computed<Omit<Schemas['PreviewOrder'], 'definition' | 'block'>>(() => ({ time_zone: zone.value, window: windowKeys(chosen.value, null), values: typed.value }))
const parameters = computed(() => keys.value.parameter ?? [])
const typed = computed(() => Object.fromEntries(parameters.value.filter((one) => values.value[String(one.name)]).map((one) => [String(one.name), one.kind === 'number' ? Number(values.value[String(one.name)]) : one.kind === 'list' ? values.value[String(one.name)]!.split(',').map((part) => part.trim()) : values.value[String(one.name)]!])))
const printOf = (place: Place) => {
  const block = at(synced.value.keys, place)
  return block ? JSON.stringify([fingerprint(synced.value.keys, block), order.value]) : ''
}
const orderOf = (place: Place) => ({ ...order.value, definition: synced.value.text, block: { section: place.section + 1, block: place.block + 1 } })

// What is pressed on
const selected = ref<Place | null>(null)
const section = ref<number | null>(null)
const view = ref<'form' | 'text'>('form')
const tab = ref<'shown' | 'data'>('shown')
const block = computed(() => at(keys.value, selected.value))
watch(keys, () => {
  if (selected.value && !block.value) selected.value = null
  if (section.value !== null && !keys.value.section?.[section.value]) section.value = null
})
function select(place: Place | null) {
  selected.value = place
  section.value = null
  if (place) view.value = view.value === 'text' ? 'text' : 'form'
}
const wrongOf = (place: Place): string[] => {
  const shown = at(keys.value, place)
  const paths = [`section[${place.section + 1}].block[${place.block + 1}]`, ...needs(keys.value, shown).map((one) => `query[${(keys.value.query ?? []).findIndex((query) => query.name === one) + 1}]`)]
  return problemsOf(problems.value, ...paths).map((one) => `${one.key.replace(/^.*\]\.?/, '') || 'It'}: ${one.message}`)
}
const elsewhere = computed(() => problems.value.filter((one) => !/^(section\[\d+\]\.block\[\d+\]|query\[\d+\])/.test(one.key)))
const words = (one: Block) => one.title || sentence(one)

// The rows behind the block
const query = computed(() => block.value?.query ?? null)
const answer = ref<Schemas['QueryAnswer'] | null>(null)
const refused = ref<string | null>(null)
const asking = computed(() => (query.value && queryOf(synced.value.keys, query.value) ? JSON.stringify([query.value, needs(synced.value.keys, query.value).map((one) => queryOf(synced.value.keys, one)), synced.value.keys.parameter ?? [], order.value]) : ''))
let latest = 0
let timer: ReturnType<typeof setTimeout> | undefined
watch(asking, (now) => {
  clearTimeout(timer)
  refused.value = null
  if (!now) answer.value = null
  else timer = setTimeout(() => void ask(), 300)
})
async function ask() {
  const mine = ++latest
  const name = query.value
  if (!name) return
  try {
    const found = await take(api.POST('/queries/try', { body: { definition: synced.value.text, query: name, rows: 40, ...order.value } }))
    if (mine === latest) [answer.value, refused.value] = [found, null]
    if (mine === latest && guess.value === name) suit(found)
  } catch (problem) {
    if (mine === latest) [answer.value, refused.value] = [null, problem instanceof ApiProblem ? problem.problems.map((one) => one.message).join(' ') || problem.message : String(problem)]
  }
}
watch(query, () => (answer.value = null))
// A block that was just added is shown as suits its rows best, once they are known.
const guess = ref<string | null>(null)
function suit(found: Schemas['QueryAnswer']) {
  guess.value = null
  const best = fitting(found.columns, found.row_count)[0]
  const place = selected.value
  if (!best || !place) return
  draft.edit((all) => {
    const one = at(all, place)
    if (one) all.section![place.section]!.block![place.block] = become(one, String(best.show), found.columns)
  })
}

// Adding, moving, removing
const adding = ref(false)
const after = ref<Place | null>(null)
function askFor(place: Place | null) {
  after.value = place
  adding.value = true
}
function put(made: Block, query?: Query) {
  const place = draft.edit((all) => {
    if (query) (all.query ??= []).push(query)
    return add(all, made, after.value)
  })
  if (query) guess.value = query.name
  tab.value = 'shown'
  select(place)
  void focus(place)
}
const cards = new Map<string, HTMLElement>()
const keep = (place: Place) => (element: unknown) => {
  const id = `${place.section}.${place.block}`
  if (element) cards.set(id, element as HTMLElement)
  else cards.delete(id)
}
async function focus(place: Place) {
  await nextTick()
  const card = cards.get(`${place.section}.${place.block}`)
  card?.focus({ preventScroll: true })
  card?.scrollIntoView({ block: 'nearest' })
}
function shiftBy(place: Place, by: 1 | -1) {
  const to = draft.edit((all) => shift(all, place, by))
  select(to)
  void focus(to)
}
function press(event: KeyboardEvent, place: Place) {
  if (event.target !== event.currentTarget) return
  const sideways = event.key === 'ArrowLeft' || event.key === 'ArrowRight'
  if (event.altKey && event.shiftKey && sideways) {
    draft.edit((all) => resize(at(all, place)!, event.key === 'ArrowRight' ? 1 : -1))
  } else if (event.altKey && (event.key === 'ArrowUp' || event.key === 'ArrowDown')) shiftBy(place, event.key === 'ArrowDown' ? 1 : -1)
  else if (event.key === 'Delete') takeOff(place)
  else if (event.key === 'Enter' || event.key === ' ') {
    select(place)
    void nextTick(() => document.querySelector<HTMLElement>('#beside')?.focus())
  } else return
  event.preventDefault()
}
function takeOff(place: Place) {
  const gone = at(keys.value, place)
  draft.edit((all) => remove(all, place))
  select(null)
  ElMessage({ message: `“${gone ? words(gone) : 'The block'}” is off the page; Undo brings it back.`, offset: 72 })
}
const dragged = ref<Place | null>(null)
const over = ref<Place | null>(null)
function drop(to: Place) {
  const from = dragged.value
  dragged.value = over.value = null
  if (!from || same(from, to)) return
  select(draft.edit((all) => move(all, from, to)))
}

// Cutting in two
const cutting = ref<Place[] | null>(null)
const toggle = (place: Place) => (cutting.value = cutting.value!.some((one) => same(one, place)) ? cutting.value!.filter((one) => !same(one, place)) : [...cutting.value!, place])
const teamOf = (all: Dashboard) => (typeof all.dashboard.team === 'string' ? all.dashboard.team : undefined)
async function cutInTwo() {
  const places = cutting.value ?? []
  const asked = await ElMessageBox.prompt('The chosen blocks go into a dashboard of their own, with what they need. Both are saved together.', 'Cut this dashboard in two', { inputPlaceholder: 'Title of the new dashboard', inputPattern: /\S/, inputErrorMessage: 'Give it a title', confirmButtonText: 'Cut and save', cancelButtonText: 'Cancel' }).catch(() => null)
  if (!asked) return
  const title = String(asked.value).trim()
  const made = draft.edit((all) => cut(all, places, inNameSpace(teamOf(all), newName(title)), title))
  cutting.value = null
  select(null)
  try {
    const drafted = await take(api.POST('/definitions/draft', { body: { text: '', keys: made as unknown as Record<string, never> } }))
    await settled()
    await store([{ file: `dashboards/${made.dashboard.name}.toml`, text: drafted.text, based_on: '' }], `cut in two: ${title}`)
    ElMessage({ type: 'success', message: `Saved as two dashboards; the other is “${title}”.`, offset: 72 })
  } catch (problem) {
    draft.undo()
    complain(problem)
  }
}

// Saving
const saving = ref(false)
const settled = async () => {
  while (draft.busy.value) await new Promise((resolve) => setTimeout(resolve, 50))
}
async function store(more: Schemas['DefinitionFile'][] = [], message?: string) {
  const made = { file: fresh.value ? `dashboards/${keys.value.dashboard.name}.toml` : file.value, text: text.value, based_on: fresh.value ? '' : draft.basedOn.value }
  await take(api.POST('/definitions/apply', { body: { files: [made, ...more], remove_others: false, message } }))
  const stored = await take(api.GET('/definitions/{kind}/{name}', { params: { path: { kind: 'dashboard', name: keys.value.dashboard.name } } }))
  file.value = stored.file
  draft.isSaved(stored.based_on ?? '')
}
async function save() {
  saving.value = true
  try {
    await settled()
    if (problems.value.length || draft.failed.value) return
    await store()
    ElMessage({ type: 'success', message: 'Saved.', offset: 72 })
    if (fresh.value) await router.replace({ name: 'edit-dashboard', params: { name: keys.value.dashboard.name } })
  } catch (problem) {
    if (problem instanceof ApiProblem && problem.status === 412) await resolve(problem.message)
    else complain(problem instanceof ApiProblem && problem.problems.length ? new Error(problem.problems.map((one) => `${one.key} ${one.message}`).join('; ')) : problem)
  } finally {
    saving.value = false
  }
}
/** Somebody else has saved meanwhile: nobody's work is lost without a word. */
async function resolve(words: string) {
  const answer = await ElMessageBox.confirm(words, 'Somebody else has saved this dashboard', { confirmButtonText: 'Keep mine', cancelButtonText: 'Take theirs', distinguishCancelAndClose: true, customClass: 'wide-box', type: 'warning' }).then(() => 'mine', (action: string) => (action === 'cancel' ? 'theirs' : 'neither'))
  if (answer === 'neither') return
  const stored = await take(api.GET('/definitions/{kind}/{name}', { params: { path: { kind: 'dashboard', name: name.value } } }))
  if (answer === 'theirs') {
    draft.type(stored.text)
    await settled()
    draft.isSaved(stored.based_on ?? '')
    return
  }
  draft.basedOn.value = stored.based_on ?? ''
  await save()
}
const canSave = computed(() => changed.value && !problems.value.length && !draft.failed.value)
onBeforeRouteLeave(async () => {
  if (!changed.value || saving.value) return true
  return ElMessageBox.confirm('What you have changed is not saved yet. It is kept in this tab until you close it.', 'Leave without saving?', { confirmButtonText: 'Leave', cancelButtonText: 'Stay', type: 'warning' }).then(() => true, () => false)
})
const warn = (event: BeforeUnloadEvent) => changed.value && event.preventDefault()
function shortcut(event: KeyboardEvent) {
  if (!(event.ctrlKey || event.metaKey)) return
  const inField = /^(INPUT|TEXTAREA)$/.test((event.target as HTMLElement).tagName)
  if (event.key === 's') void (canSave.value && save())
  else if (event.key === 'z' && !event.shiftKey && !inField) draft.undo()
  else if ((event.key === 'y' || (event.key === 'z' && event.shiftKey)) && !inField) draft.redo()
  else return
  event.preventDefault()
}
window.addEventListener('beforeunload', warn)
window.addEventListener('keydown', shortcut)
onUnmounted(() => {
  window.removeEventListener('beforeunload', warn)
  window.removeEventListener('keydown', shortcut)
  clearTimeout(timer)
})
const setTitle = (title: string) => draft.edit((all) => {
  const known = [newName(all.dashboard.title), newName('New dashboard')].includes(all.dashboard.name)
  all.dashboard.title = title
  if (fresh.value && known) all.dashboard.name = newName(title) || newName('New dashboard')
}, 'title')
const setSection = (number: number, key: string, value: string) => draft.edit((all) => {
  const one = all.section![number]!
  if (value || key === 'title') one[key] = value
  else delete one[key]
}, `section ${number} ${key}`)

// The definition of a block, in the text
async function showText(path: string) {
  view.value = 'text'
  await nextTick()
  const header = path.startsWith('query') ? '[[query]]' : '[[section.block]]'
  const count = path.startsWith('query') ? Number(/\d+/.exec(path)![0]) : (keys.value.section ?? []).slice(0, selected.value!.section).reduce((sum, one) => sum + (one.block?.length ?? 0), 0) + selected.value!.block + 1
  const field = document.querySelector<HTMLTextAreaElement>('.text-view textarea')
  if (!field) return
  let from = -1
  for (let found = 0; found < count; found += 1) from = text.value.indexOf(header, from + 1)
  if (from < 0) return
  field.focus()
  field.setSelectionRange(from, from + header.length)
  field.scrollTop = Math.max(0, (text.value.slice(0, from).split('\n').length - 3) * 20)
}
</script>

<template>
  <Loading :error="data ? null : error" :ready="data === true" @again="load">
    <div v-if="data" class="stack">
      <div class="row spread top">
        <div class="named">
          <p class="small"><RouterLink to="/dashboards">Dashboards</RouterLink> / <RouterLink v-if="!fresh" :to="{ name: 'dashboard', params: { name } }">{{ name }}</RouterLink><template v-else>new</template></p>
          <h1><input :value="keys.dashboard.title" class="title" aria-label="Title of the dashboard" @input="setTitle(($event.target as HTMLInputElement).value)" /></h1>
        </div>
        <div class="row">
          <span class="small muted" role="status">{{ draft.failed.value ? `◆ ${draft.failed.value}` : draft.busy.value ? 'Checking …' : problems.length ? `◆ ${problems.length} ${problems.length === 1 ? 'problem' : 'problems'}` : changed ? 'Not saved yet' : 'Saved' }}</span>
          <el-button :disabled="!draft.canUndo.value" aria-keyshortcuts="Control+Z" @click="draft.undo()">Undo</el-button>
          <el-button :disabled="!draft.canRedo.value" aria-keyshortcuts="Control+Y" @click="draft.redo()">Redo</el-button>
          <el-button :aria-pressed="view === 'text'" @click="view = view === 'text' ? 'form' : 'text'">{{ view === 'text' ? 'As a form' : 'As text' }}</el-button>
          <el-button type="primary" :loading="saving" :disabled="!canSave" aria-keyshortcuts="Control+S" @click="save">Save</el-button>
        </div>
      </div>
      <div class="row asked">
        <el-select v-model="chosen" aria-label="Window" class="short"><el-option v-for="one in WINDOWS.filter((window) => window.keys)" :key="one.value" :value="one.value" :label="one.label" /></el-select>
        <span class="small muted">in {{ zone }}</span>
        <label v-for="one in parameters" :key="String(one.name)" class="row small">{{ one.title ?? one.name }} <el-select v-if="Array.isArray(one.choices)" v-model="values[String(one.name)]" class="short" clearable :placeholder="String(one.default ?? '')" :aria-label="`Value of ${String(one.title ?? one.name)}`"><el-option v-for="choice in (one.choices as string[])" :key="choice" :value="choice" :label="choice" /></el-select><el-input v-else v-model="values[String(one.name)]" class="short" :placeholder="String(one.default ?? '')" :aria-label="`Value of ${String(one.title ?? one.name)}`" /></label>
        <span class="spacer" />
        <template v-if="cutting"><el-button size="small" type="primary" :disabled="!cutting.length" @click="cutInTwo">Cut {{ cutting.length }} {{ cutting.length === 1 ? 'block' : 'blocks' }} out</el-button><el-button size="small" @click="cutting = null">Cancel</el-button></template>
        <el-button v-else size="small" @click="cutting = []">Cut in two …</el-button>
        <el-button size="small" @click="select(null)">Title and parameters</el-button>
      </div>
      <ul v-if="elsewhere.length" class="card bad problems"><li v-for="(one, index) in elsewhere" :key="index">◆ Line {{ one.line }}: {{ one.key }} {{ one.message }}</li></ul>
      <div class="editor">
        <div class="page stack">
          <section v-for="(part, number) in keys.section ?? []" :key="number" class="part" :aria-label="part.title">
            <div class="row spread head">
              <h2><button type="button" class="plain" :aria-pressed="section === number" @click="select(null); section = number">{{ part.title || 'Without a title' }}</button></h2>
              <div class="row tools">
                <el-button size="small" text :disabled="number === 0" :aria-label="`Move the section ${part.title} up`" @click="draft.edit((all) => shiftSection(all, number, -1))">↑</el-button>
                <el-button size="small" text :disabled="number === (keys.section?.length ?? 0) - 1" :aria-label="`Move the section ${part.title} down`" @click="draft.edit((all) => shiftSection(all, number, 1))">↓</el-button>
              </div>
            </div>
            <div class="blocks">
              <article
                v-for="(one, index) in part.block ?? []"
                :key="index"
                :ref="keep({ section: number, block: index })"
                class="block"
                :class="{ hidden: one.hide === true, selected: same(selected, { section: number, block: index }), over: over && same(over, { section: number, block: index }) }"
                :style="{ '--twelfths': width(one) }"
                tabindex="0"
                :aria-label="`${words(one)}. ${sentence(one)}`"
                aria-keyshortcuts="Enter Alt+ArrowUp Alt+ArrowDown Alt+Shift+ArrowLeft Alt+Shift+ArrowRight Delete"
                draggable="true"
                @click="cutting ? toggle({ section: number, block: index }) : select({ section: number, block: index })"
                @keydown="press($event, { section: number, block: index })"
                @dragstart="dragged = { section: number, block: index }"
                @dragend="dragged = over = null"
                @dragover.prevent="over = { section: number, block: index }"
                @drop.prevent="drop({ section: number, block: index })"
              >
                <div class="row spread said">
                  <span class="small muted"><el-checkbox v-if="cutting" :model-value="cutting.some((place) => same(place, { section: number, block: index }))" :aria-label="`Cut out ${words(one)}`" @click.stop @change="toggle({ section: number, block: index })" /> {{ sentence(one) }}{{ one.hide ? ' (hidden: in no document)' : '' }}</span>
                  <span v-if="same(selected, { section: number, block: index })" class="row tools" @click.stop>
                    <el-button size="small" text aria-label="Move up" @click="shiftBy({ section: number, block: index }, -1)">↑</el-button>
                    <el-button size="small" text aria-label="Move down" @click="shiftBy({ section: number, block: index }, 1)">↓</el-button>
                    <el-button size="small" text @click="select(draft.edit((all) => copy(all, { section: number, block: index })))">Copy</el-button>
                    <el-button size="small" text :aria-pressed="one.hide === true" @click="draft.edit((all) => hide(all, { section: number, block: index }))">{{ one.hide ? 'Show' : 'Hide' }}</el-button>
                    <el-button size="small" text @click="askFor({ section: number, block: index })">Add below</el-button>
                    <el-button size="small" text type="danger" @click="takeOff({ section: number, block: index })">Remove</el-button>
                  </span>
                </div>
                <hr v-if="one.show === 'page-break'" />
                <Picture v-else :title="words(one)" :order="orderOf({ section: number, block: index })" :print="printOf({ section: number, block: index })" :wrong="wrongOf({ section: number, block: index })" />
              </article>
            </div>
            <p v-if="!part.block?.length" class="muted empty" @dragover.prevent @drop.prevent="drop({ section: number, block: 0 })">Nothing in this section yet.</p>
            <el-button size="small" text @click="askFor({ section: number, block: (part.block?.length ?? 0) - 1 })">+ Add to {{ part.title }}</el-button>
          </section>
          <div class="row"><el-button type="primary" plain @click="askFor(null)">Add …</el-button><el-button @click="section = draft.edit((all) => addSection(all)); selected = null">Add a section</el-button></div>
        </div>
        <aside id="beside" class="card stack beside" tabindex="-1" :aria-label="view === 'text' ? 'The definition' : 'Settings'">
          <template v-if="view === 'text'">
            <h2>The definition</h2>
            <QueryText class="text-view" :model-value="text" label="The definition as text" @update:model-value="draft.type($event)" />
            <ul v-if="problems.length" class="bad problems small"><li v-for="(one, index) in problems" :key="index">◆ Line {{ one.line }}: <code>{{ one.key }}</code> {{ one.message }}</li></ul>
          </template>
          <template v-else-if="selected && block">
            <div class="row spread line"><h2>{{ words(block) }}</h2><el-button size="small" text aria-label="Close" @click="select(null)">✕</el-button></div>
            <div v-if="block.query" class="row tabs" role="tablist">
              <button type="button" role="tab" :aria-selected="tab === 'shown'" @click="tab = 'shown'">What is shown</button>
              <button type="button" role="tab" :aria-selected="tab === 'data'" @click="tab = 'data'">The data</button>
            </div>
            <DataForm v-if="tab === 'data' && block.query" :key="block.query" :draft="draft" :name="block.query" :sources="sources ?? []" :answer="answer" :wrong="refused" :when="order" @renamed="guess = null" />
            <template v-else>
              <p v-if="refused" class="bad small">◆ {{ refused }}</p>
              <BlockForm :key="`${selected.section}.${selected.block}`" :draft="draft" :place="selected" :columns="answer?.columns ?? []" :rows="answer?.row_count ?? 0" :order="order" :others="others" />
            </template>
            <div><el-button size="small" text @click="showText(tab === 'data' && block.query ? `query[${(keys.query ?? []).findIndex((one) => one.name === block?.query) + 1}]` : 'block')">Show the definition</el-button></div>
          </template>
          <template v-else-if="section !== null && keys.section?.[section]">
            <h2>Section</h2>
            <label><span class="small">Title</span><el-input :model-value="keys.section[section]!.title" aria-label="Title of the section" @update:model-value="setSection(section, 'title', $event)" /></label>
            <label><span class="small">Text above its blocks</span><el-input :model-value="String(keys.section[section]!.text ?? '')" type="textarea" :rows="4" aria-label="Text of the section" @update:model-value="setSection(section, 'text', $event)" /></label>
            <div class="row"><el-button size="small" :disabled="(keys.section?.length ?? 0) < 2" @click="draft.edit((all) => removeSection(all, section!)); section = null">Remove the section</el-button><span class="small muted">Its blocks stay.</span></div>
          </template>
          <template v-else>
            <h2>This dashboard</h2>
            <label v-if="fresh"><span class="small">Name <span class="muted">it stays for good</span></span><el-input :model-value="keys.dashboard.name" aria-label="Name of the dashboard" @update:model-value="draft.edit((all) => (all.dashboard.name = $event), 'name')" /></label>
            <label><span class="small">Summary <span class="muted">(optional)</span></span><el-input :model-value="String(keys.dashboard.summary ?? '')" type="textarea" :rows="2" aria-label="Summary" @update:model-value="draft.edit((all) => { if ($event) all.dashboard.summary = $event; else delete all.dashboard.summary }, 'summary')" /></label>
            <ParameterForm :draft="draft" />
            <p class="small muted">Press on a block to change it. With the keyboard: Enter opens it, Alt and the arrows up and down move it, Alt, Shift and the arrows left and right set its width, Delete takes it off.</p>
          </template>
        </aside>
      </div>
      <AddBlock v-model="adding" :keys="keys" :sources="sources ?? []" :others="others" @add="put" />
    </div>
  </Loading>
</template>

<style scoped>
p, h2 { margin: 0; }
.top { align-items: end; position: sticky; top: 3.375rem; z-index: 5; background: var(--ground); padding: 0.5rem 0; margin: -0.5rem 0; }
.named { flex: 1; min-width: 14rem; }
.title { font: inherit; font-weight: 650; color: inherit; width: 100%; border: 1px solid transparent; border-radius: 6px; background: none; padding: 0 0.3rem; margin-left: -0.35rem; }
.title:hover, .title:focus { border-color: var(--line); background: var(--paper); }
.short { width: 11rem; }
.spacer { flex: 1; }
.editor { display: grid; grid-template-columns: minmax(0, 1fr) 25rem; gap: 1.1rem; align-items: start; }
.beside { position: sticky; top: 8.2rem; max-height: calc(100vh - 9rem); overflow-y: auto; gap: 0.8rem; align-content: start; }
.beside label:not(.el-checkbox) { display: grid; gap: 0.25rem; }
.beside:focus { outline: none; }
.part { background: var(--paper); border: 1px solid var(--line); border-radius: 10px; padding: 0.9rem 1.1rem; min-width: 0; }
.head { border-bottom: 1px solid var(--line); padding-bottom: 0.4rem; margin-bottom: 0.6rem; }
.plain { all: unset; cursor: pointer; font-weight: 650; }
.plain:hover, .plain[aria-pressed='true'] { text-decoration: underline; }
.plain:focus-visible { outline: 2px solid var(--sea); outline-offset: 2px; }
.blocks { display: grid; grid-template-columns: repeat(12, minmax(0, 1fr)); gap: 0.7rem; }
.block { grid-column: span var(--twelfths, 12); border: 1px dashed transparent; border-radius: 8px; padding: 0.3rem 0.5rem; min-width: 0; cursor: pointer; }
.block:hover { border-color: var(--line); }
.block.hidden { opacity: 0.55; }
.block.selected { border: 1px solid var(--sea); }
.block.over { border-color: var(--sea); border-style: dashed; }
.said { min-height: 1.6rem; gap: 0.2rem; }
.line { flex-wrap: nowrap; align-items: start; }
.tools { gap: 0; flex-wrap: wrap; }
.tabs { gap: 0; border-bottom: 1px solid var(--line); }
.tabs button { all: unset; cursor: pointer; padding: 0.35rem 0.8rem; border-bottom: 2px solid transparent; }
.tabs button[aria-selected='true'] { border-color: var(--sea); font-weight: 600; }
.tabs button:focus-visible { outline: 2px solid var(--sea); }
.empty { padding: 0.6rem 0; }
.bad { color: var(--critical); overflow-wrap: anywhere; }
.problems { list-style: none; margin: 0; }
ul.problems:not(.card) { padding: 0; }
.text-view { height: 30rem; }
/* What is scrolled to does not hide under the bars. */
:global(html:has(.editor)) { scroll-padding-top: 8.5rem; }
@media (max-width: 1000px) { .top { position: static; } .editor { grid-template-columns: minmax(0, 1fr); } .beside { position: static; max-height: none; } }
@media (max-width: 760px) { .block { grid-column: 1 / -1; } .spacer { display: none; } }
</style>
