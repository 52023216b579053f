<script setup lang="ts">
// What is asked of a live page: where, how it is looked at, when it has finished, what is kept.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import Steps from '../forms/Steps.vue'
import type { Keys, Query } from './model'
import { hasWindow, isLook, keep, partName, partsOf, setIn, togglePart } from './page'
import PageLook from './PageLook.vue'

const props = defineProps<{ query: Query; when: Pick<Schemas['PageOrder'], 'window' | 'time_zone' | 'values'> }>()
const emit = defineEmits<{ change: [what: string, alter: (query: Query) => void] }>()
const change = (what: string, alter: (query: Query) => void) => emit('change', what, alter)
const view = computed(() => (props.query.view ?? {}) as Keys)
const finished = computed(() => (props.query.finished ?? {}) as Keys)
const list = (value: unknown) => (Array.isArray(value) ? value.map(String) : value === undefined ? [] : [String(value)])
const kept = computed<'look' | 'table' | 'download'>(() => (props.query.table !== undefined ? 'table' : props.query.download ? 'download' : 'look'))
const numberOr = (text: string) => (text.trim() !== '' && Number.isFinite(Number(text)) ? Number(text) : text.trim())
const put = (key: string, value: unknown) => change(key, (one) => (value === '' || value === false || (Array.isArray(value) && !value.length) ? delete one[key] : (one[key] = value)))
function name(index: number, title: string) {
  change(`part ${index}`, (one) => {
    const part = partsOf(one)[index]
    if (!part) return
    if (title.trim()) part.title = title
    else delete part.title
  })
}
</script>

<template>
  <label><span class="small">Page, behind the source’s address</span><el-input :model-value="String(query.page ?? '')" aria-label="Page" placeholder="/board?from={{ from }}&to={{ to }}" @update:model-value="put('page', $event)" /></label>
  <p class="muted small"><template v-if="!hasWindow(String(query.page))">The window is not in the address, so the page shows whatever it does by itself. </template>Put it in as <code v-text="'{{ from }}'" /> and <code v-text="'{{ to }}'" />, in seconds as <code v-text="'{{ from_unix }}'" />, in milliseconds as <code v-text="'{{ from_unix_ms }}'" />; parameters by their names.</p>
  <PageLook :keys="query" :when="when" :chosen="kept === 'look' ? partsOf(query).map((part) => String(part.selector)) : undefined" @press="(piece) => change('part', (one) => togglePart(one, piece))" />
  <label><span class="small">Kept</span><el-select :model-value="kept" aria-label="What is kept" @update:model-value="change('keep', (one) => keep(one, $event))"><el-option value="look" label="How it looks" /><el-option value="table" label="The rows of a table on it" /><el-option value="download" label="The CSV that it offers (press its button as a step)" /></el-select></label>
  <label v-if="kept === 'table'"><span class="small">Selector of the table</span><el-input :model-value="String(query.table ?? '')" aria-label="Selector of the table" @update:model-value="put('table', $event)" /></label>
  <template v-if="isLook(query)">
    <fieldset v-if="partsOf(query).length"><legend class="small">Parts</legend>
      <div v-for="(part, index) in partsOf(query)" :key="String(part.selector)" class="row line"><el-input :model-value="String(part.title ?? '')" :placeholder="String(part.selector)" :aria-label="`Title of the part ${partName(part)}`" @update:model-value="name(index, $event)" /><el-button size="small" :aria-label="`Let the part ${partName(part)} go`" @click="change('part', (one) => togglePart(one, { selector: String(part.selector), title: '' }))">×</el-button></div>
    </fieldset>
    <p v-else class="muted small">The whole page is kept.</p>
    <el-checkbox :model-value="query.printed === true" label="Printed by the browser, too: sharp in the PDF, with text that can be selected" @update:model-value="put('printed', $event)" />
  </template>
  <details class="more"><summary class="small">Before it is kept</summary>
    <div class="stack fields">
      <div><span class="small">Steps on the page</span><Steps title="Steps on the page" :model-value="(query.do as Keys[] | undefined) ?? []" @update:model-value="put('do', $event)" /></div>
      <label><span class="small">Must be there <span class="muted">(selectors)</span></span><el-select :model-value="list(finished.there)" multiple filterable allow-create default-first-option aria-label="Must be there" placeholder="Such as #board.ready" @update:model-value="change('there', (one) => setIn(one, 'finished', 'there', $event))" /></label>
      <label><span class="small">Must be gone</span><el-select :model-value="list(finished.gone)" multiple filterable allow-create default-first-option aria-label="Must be gone" placeholder="Such as .spinner" @update:model-value="change('gone', (one) => setIn(one, 'finished', 'gone', $event))" /></label>
      <label><span class="small">Text that must be there</span><el-select :model-value="list(finished.text)" multiple filterable allow-create default-first-option aria-label="Text that must be there" @update:model-value="change('text', (one) => setIn(one, 'finished', 'text', $event))" /></label>
      <div class="pair">
        <label><span class="small">No request for (seconds)</span><el-input :model-value="String(finished['quiet-seconds'] ?? '')" placeholder="0.5" inputmode="decimal" aria-label="No request for so many seconds" @update:model-value="change('quiet', (one) => setIn(one, 'finished', 'quiet-seconds', numberOr($event)))" /></label>
        <label><span class="small">And then (seconds)</span><el-input :model-value="String(finished['after-seconds'] ?? '')" placeholder="0" inputmode="decimal" aria-label="And then so many seconds" @update:model-value="change('after', (one) => setIn(one, 'finished', 'after-seconds', numberOr($event)))" /></label>
        <label><span class="small">At most (seconds)</span><el-input :model-value="String(finished['limit-seconds'] ?? '')" placeholder="30" inputmode="numeric" aria-label="At most so many seconds" @update:model-value="change('limit', (one) => setIn(one, 'finished', 'limit-seconds', numberOr($event)))" /></label>
      </div>
      <label><span class="small">Left out <span class="muted">(selectors: navigation, banners)</span></span><el-select :model-value="list(query.hide)" multiple filterable allow-create default-first-option aria-label="Left out" placeholder="Such as nav" @update:model-value="put('hide', $event)" /></label>
    </div>
  </details>
  <details class="more"><summary class="small">How it is looked at</summary>
    <div class="pair">
      <label><span class="small">Width (pixels)</span><el-input :model-value="String(view.width ?? '')" placeholder="1280" inputmode="numeric" aria-label="Width in pixels" @update:model-value="change('width', (one) => setIn(one, 'view', 'width', numberOr($event)))" /></label>
      <label><span class="small">Colours</span><el-select :model-value="String(view.colours ?? '')" :empty-values="[null]" aria-label="Colours" @update:model-value="change('colours', (one) => setIn(one, 'view', 'colours', $event))"><el-option value="" label="The page’s own" /><el-option value="light" label="Light" /><el-option value="dark" label="Dark" /></el-select></label>
      <label><span class="small">Style</span><el-select :model-value="String(view.style ?? 'screen')" aria-label="Style" @update:model-value="change('style', (one) => setIn(one, 'view', 'style', $event === 'print' ? 'print' : ''))"><el-option value="screen" label="For screens" /><el-option value="print" label="For print" /></el-select></label>
      <label><span class="small">Language</span><el-input :model-value="String(view.locale ?? '')" placeholder="en-GB" aria-label="Language" @update:model-value="change('locale', (one) => setIn(one, 'view', 'locale', $event.trim()))" /></label>
    </div>
  </details>
</template>

<style scoped>
p { margin: 0; }
label { display: grid; gap: 0.25rem; min-width: 0; }
fieldset { border: 0; margin: 0; padding: 0; display: grid; gap: 0.35rem; }
.line { flex-wrap: nowrap; }
.pair { display: grid; grid-template-columns: repeat(auto-fit, minmax(8rem, 1fr)); gap: 0.6rem; }
.more summary { cursor: pointer; padding: 0.2rem 0; }
.fields { gap: 0.7rem; margin-top: 0.4rem; }
</style>
