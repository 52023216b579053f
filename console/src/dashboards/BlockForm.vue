<script setup lang="ts">
// What a block shows: its kind, drawn with its own data, its columns, title, width and note.
import { computed, ref, watch } from 'vue'

import { api, take, type Schemas } from '../api/client'
import Columns from './Columns.vue'
import Picture from './Picture.vue'
import type { Draft } from './draft'
import { at, copyQuery, isCut, lift, queryOf, width, type Block, type Place } from './model'
import { partName, partsOf } from './page'
import { become, fitting, SHOWS, shown, suited, type Column } from './shows'

const props = defineProps<{ draft: Draft; place: Place; columns: Column[]; rows: number; order: Omit<Schemas['PreviewOrder'], 'definition' | 'block'>; others: string[] }>()
const block = computed(() => at(props.draft.keys.value, props.place))
const kind = computed(() => shown(block.value?.show))
const isPlain = computed(() => ['text', 'image', 'page-break'].includes(String(block.value?.show)))
const id = computed(() => `${props.place.section}.${props.place.block}`)

function set(key: string, value: unknown) {
  const empty = value === '' || value === null || value === undefined || (Array.isArray(value) && !value.length)
  props.draft.edit((keys) => {
    const one = at(keys, props.place)
    if (!one) return
    if (empty && key !== 'text') delete one[key]
    else one[key] = value
  }, `${id.value} ${key}`)
}
function show(wanted: string) {
  props.draft.edit((keys) => {
    const one = at(keys, props.place)
    if (one) keys.section![props.place.section]!.block![props.place.block] = become(one, wanted, props.columns)
  })
}
const cut = computed(() => block.value !== null && isCut(props.draft.keys.value, block.value))
const shares = computed(() => (block.value?.query ? (props.draft.keys.value.section ?? []).flatMap((section) => section.block ?? []).filter((one) => one.query === block.value?.query).length > 1 : false))
const alone = () => props.draft.edit((keys) => {
  const one = at(keys, props.place)
  if (one?.query) one.query = copyQuery(keys, one.query)
})
const numberOr = (text: string) => (/^\d+$/.test(text.trim()) ? Number(text) : text.trim())

// The kinds that suit the rows, each drawn with them.
const choosing = ref(false)
const drawn = ref<{ show: string; text: string }[]>([])
watch([choosing, () => props.draft.synced.value, () => props.columns], async () => {
  drawn.value = []
  if (!choosing.value || !block.value?.query) return
  const version = props.draft.synced.value
  const made: { show: string; text: string }[] = []
  for (const one of fitting(props.columns, props.rows)) {
    const keys = JSON.parse(JSON.stringify(version.keys)) as typeof version.keys
    const before = at(keys, props.place)
    if (!before) return
    keys.section![props.place.section]!.block![props.place.block] = become(before, String(one.show), props.columns)
    const found = await take(api.POST('/definitions/draft', { body: { text: version.text, keys: keys as unknown as Record<string, never> } })).catch(() => null)
    if (version !== props.draft.synced.value) return
    if (found) made.push({ show: String(one.show), text: found.text })
  }
  drawn.value = made
})
const rest = computed(() => SHOWS.filter((one) => !drawn.value.some((known) => known.show === one.show)).map((one) => ({ ...one, why: suited(one.show, props.columns) ? null : `needs ${one.columns.filter((column) => column.needed).map((column) => (column.of === 'any' ? column.label.toLowerCase() : `a column of ${column.of === 'time' ? 'instants' : 'numbers'}`)).join(' and ')}` })))
async function upload(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  const reader = new FileReader()
  reader.onload = () => set('data', String(reader.result))
  reader.readAsDataURL(file)
}
const parts = computed(() => partsOf(queryOf(props.draft.keys.value, block.value?.query)).map(partName))
const as = (one: Block | null, key: string) => String(one?.[key] ?? '')
</script>

<template>
  <div v-if="block" class="stack fields">
    <template v-if="block.from">
      <label><span class="small">Block</span><el-select :model-value="block.from" filterable aria-label="Block of another dashboard" @update:model-value="set('from', $event)"><el-option v-for="one in others" :key="one" :value="one" :label="one" /></el-select></label>
      <label><span class="small">Title <span class="muted">(its own, if empty)</span></span><el-input :model-value="as(block, 'title')" aria-label="Title" @update:model-value="set('title', $event)" /></label>
    </template>
    <template v-else-if="block.show === 'page-break'"><p class="muted">What follows begins on a new page of the PDF.</p></template>
    <template v-else-if="block.show === 'text'">
      <label><span class="small">Text</span><el-input :model-value="as(block, 'text')" type="textarea" :rows="8" aria-label="Text" @update:model-value="set('text', $event)" /></label>
      <p class="muted small">**bold**, lists and links as in CommonMark; values in braces, such as <code v-text="'{{ window.label }}'" />.</p>
    </template>
    <template v-else-if="block.show === 'page'">
      <label><span class="small">Title</span><el-input :model-value="as(block, 'title')" aria-label="Title" @update:model-value="set('title', $event)" /></label>
      <label><span class="small">Which part</span><el-select :model-value="as(block, 'part')" :empty-values="[null]" aria-label="Which part" @update:model-value="set('part', $event)"><el-option value="" label="All that is kept of the page" /><el-option v-for="part in parts" :key="part" :value="part" :label="part" /></el-select></label>
      <p class="muted small">What is kept of the page is chosen on its picture, under “The data”.</p>
    </template>
    <template v-else-if="block.show === 'image'">
      <label><span class="small">Picture</span><input type="file" accept="image/png,image/jpeg,image/svg+xml" aria-label="Picture" @change="upload" /></label>
      <label><span class="small">What it shows, for those who do not see it</span><el-input :model-value="as(block, 'description')" aria-label="Description" @update:model-value="set('description', $event)" /></label>
    </template>
    <template v-else>
      <label><span class="small">Title</span><el-input :model-value="as(block, 'title')" aria-label="Title" @update:model-value="set('title', $event)" /></label>
      <div>
        <div class="row spread"><span class="small">Shown as <strong>{{ kind?.label ?? block.show }}</strong></span><el-button size="small" :aria-expanded="choosing" @click="choosing = !choosing">{{ choosing ? 'Done' : 'Change …' }}</el-button></div>
        <div v-if="choosing" class="kinds">
          <button v-for="one in drawn" :key="one.show" type="button" :aria-pressed="block.show === one.show" @click="show(one.show)">
            <Picture small :title="shown(one.show)!.label" :order="{ ...order, definition: one.text, block: { section: place.section + 1, block: place.block + 1 } }" :print="one.text" />
            <span class="small">{{ shown(one.show)!.label }}</span>
          </button>
          <p v-if="!drawn.length" class="muted small wide">Drawing what suits these rows …</p>
          <details class="wide small"><summary>Other kinds</summary>
            <ul><li v-for="one in rest" :key="one.show"><el-button size="small" text :disabled="one.why !== null" @click="show(one.show)">{{ one.label }}</el-button><span v-if="one.why" class="muted">{{ one.why }}</span></li></ul>
          </details>
        </div>
      </div>
      <label v-for="one in kind?.columns ?? []" :key="one.key"><span class="small">{{ one.label }}</span><Columns :columns="columns" :wanted="one" :model-value="block[one.key]" @update:model-value="set(one.key, $event)" /></label>
      <label v-if="['table', 'ranking'].includes(String(block.show))"><span class="small">Rows at most</span><el-input :model-value="as(block, 'limit')" aria-label="Rows at most" :placeholder="block.show === 'table' ? 'all' : '10'" inputmode="numeric" @update:model-value="set('limit', numberOr($event))" /></label>
      <el-checkbox v-if="block.show === 'bar' || block.show === 'column'" :model-value="block.stacked === true" label="On top of one another" @update:model-value="set('stacked', $event || null)" />
      <el-checkbox v-if="block.show === 'share'" :model-value="block.round === true" label="As a ring" @update:model-value="set('round', $event || null)" />
      <div v-if="cut || shares" class="row">
        <el-button v-if="cut" size="small" @click="draft.edit((keys) => lift(keys, place))">Show all rows</el-button>
        <el-button v-if="shares" size="small" title="Other blocks show this query, too; changes to it change them" @click="alone">Give it a query of its own</el-button>
      </div>
    </template>
    <div v-if="block.show !== 'page-break'" class="pair">
      <label><span class="small">Width</span><el-select :model-value="width(block)" aria-label="Width" @update:model-value="set('width', $event === 12 ? null : $event)"><el-option :value="12" label="Whole" /><el-option :value="8" label="Two thirds" /><el-option :value="6" label="Half" /><el-option :value="4" label="A third" /></el-select></label>
      <label v-if="!isPlain"><span class="small">Remark beneath</span><el-input :model-value="as(block, 'note')" aria-label="Remark" @update:model-value="set('note', $event)" /></label>
    </div>
    <p v-if="block.query && !queryOf(draft.keys.value, block.query)" class="bad small">◆ There is no query “{{ block.query }}”.</p>
  </div>
</template>

<style scoped>
p { margin: 0; }
.fields { gap: 0.8rem; }
label:not(.el-checkbox) { display: grid; gap: 0.25rem; min-width: 0; }
.pair { display: grid; grid-template-columns: 9rem minmax(0, 1fr); gap: 0.8rem; }
.kinds { display: grid; grid-template-columns: repeat(2, minmax(0, 1fr)); gap: 0.6rem; margin-top: 0.6rem; }
.kinds > button { all: unset; box-sizing: border-box; cursor: pointer; border: 1px solid var(--line); border-radius: 8px; padding: 0.35rem; display: grid; gap: 0.2rem; text-align: center; min-width: 0; background: #fff; color: #17232d; }
.kinds > button[aria-pressed='true'] { border-color: var(--sea); box-shadow: 0 0 0 1px var(--sea); }
.kinds > button:focus-visible { outline: 2px solid var(--sea); outline-offset: 2px; }
.wide { grid-column: 1 / -1; }
.wide ul { list-style: none; margin: 0.3rem 0 0; padding: 0; display: grid; gap: 0.1rem; }
.bad { color: var(--critical); }
</style>
