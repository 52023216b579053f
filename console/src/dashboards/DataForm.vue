<script setup lang="ts">
// A query: which source, what of it, the steps that follow, and what its columns are called.
import { computed, ref, watch } from 'vue'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import Columns from './Columns.vue'
import type { Draft } from './draft'
import { freshName, queryName, queryOf, renameQuery, type Keys, type Query } from './model'
import { isPage } from './page'
import PageForm from './PageForm.vue'
import type { Column } from './shows'
import { isNumeric, isTimely, measureNames, measuresOf, TESTS, testOf, withTest } from './picks'
import { setField, step, STEPS, stepWords, usualKeys, type StepField } from './steps'

const props = defineProps<{ draft: Draft; name: string; sources: Schemas['SourceView'][]; answer: Schemas['QueryAnswer'] | null; wrong: string | null; when: Pick<Schemas['QueryOrder'], 'window' | 'time_zone' | 'values'> }>()
const emit = defineEmits<{ renamed: [name: string] }>()
const query = computed(() => queryOf(props.draft.keys.value, props.name))
const source = computed(() => props.sources.find((one) => one.name === query.value?.source) ?? null)
const pick = computed(() => query.value?.pick as (Keys & { table: string; measure?: Keys[]; group?: string[]; filter?: Keys[] }) | undefined)
const columns = computed<Column[]>(() => props.answer?.columns ?? [])
const parameters = computed(() => (props.draft.keys.value.parameter ?? []).map((one) => String(one.name)))
const others = computed(() => (props.draft.keys.value.query ?? []).filter((one) => one.name !== props.name).map((one) => one.name))

function change(what: string, alter: (query: Query) => void) {
  props.draft.edit((keys) => {
    const one = queryOf(keys, props.name)
    if (one) alter(one)
  }, `${props.name} ${what}`)
}
const put = (key: string, value: unknown) => change(key, (one) => (value === '' || value === null ? delete one[key] : (one[key] = value)))
const changePick = (what: string, alter: (pick: Keys & { measure: Keys[]; filter?: Keys[] }) => void) => change(`pick ${what}`, (one) => alter(one.pick as Keys & { measure: Keys[]; filter?: Keys[] }))
function rename(words: string) {
  const taken = others.value
  const name = freshName(queryName(words), taken)
  if (!name || name === props.name) return
  props.draft.edit((keys) => renameQuery(keys, props.name, name))
  emit('renamed', name)
}

// What the source has of the table that is picked from.
const items = ref<Schemas['CatalogueItem'][]>([])
watch(
  () => [source.value?.name, pick.value?.table],
  async ([name, table]) => {
    items.value = []
    if (!name || !table) return
    const found = await take(api.GET('/sources/{name}/catalogue', { params: { path: { name }, query: { search: String(table).split('.').pop() } } })).catch(() => [])
    items.value = found.find((one) => one.name === table || one.name === `public.${table}` || `public.${one.name}` === table)?.items ?? []
  },
  { immediate: true },
)
const valuesOf = (column: unknown) => items.value.find((item) => item.name === column)?.values ?? []
const asList = (value: unknown) => (Array.isArray(value) ? (value as string[]) : value === undefined ? [] : [String(value)])
const asNumber = (text: string) => (text.trim() !== '' && Number.isFinite(Number(text)) ? Number(text) : text)

// Steps
const steps = computed(() => query.value?.then ?? [])
const open = ref<number | null>(null)
interface Looked {
  rows: Schemas['QueryAnswer'] | null
  wrong: string | null
}
const around = ref<Record<'before' | 'after', Looked>>({ before: { rows: null, wrong: null }, after: { rows: null, wrong: null } })
let looks = 0
async function look(count: number, where: 'before' | 'after', mine: number) {
  const found: Looked = { rows: null, wrong: null }
  try {
    found.rows = await take(api.POST('/queries/try', { body: { ...props.when, definition: props.draft.synced.value.text, query: props.name, steps: count, rows: 8 } }))
  } catch (problem) {
    found.wrong = problem instanceof ApiProblem ? problem.problems.map((one) => one.message).join(' ') || problem.message : String(problem)
  }
  if (mine === looks) around.value[where] = found
}
watch(
  [open, () => props.draft.synced.value],
  () => {
    if (open.value === null) return
    const mine = ++looks
    void look(open.value, 'before', mine)
    void look(open.value + 1, 'after', mine)
  },
  { immediate: true },
)
function addStep(kind: string) {
  change('', (one) => {
    const list = (one.then ??= [])
    const numbers = columns.value.filter((column) => column.numeric).map((column) => column.name)
    const time = columns.value.find((column) => column.kind === 'instant')?.name
    const words = columns.value.find((column) => !column.numeric && column.kind !== 'instant')?.name
    const made: Keys = { do: kind }
    for (const field of step(kind)?.fields ?? []) {
      if (!field.needed && field.key !== 'rows' && field.key !== 'value') continue
      if (field.key === 'rows') made.rows = 10
      else if (field.as === 'numbers' && numbers.length) made[field.key] = kind === 'compute' ? numbers.slice(0, 2) : [numbers[0]]
      else if (field.key === 'time' && time) made.time = time
      else if (field.as === 'column') made[field.key] = field.key === 'label' ? (words ?? '') : (numbers[0] ?? columns.value[0]?.name ?? '')
      else if (field.as === 'columns') made[field.key] = field.key === 'by' ? [numbers[0] ?? columns.value[0]?.name ?? ''] : kind === 'select' ? columns.value.map((column) => column.name) : words ? [words] : []
      else if (field.as === 'choice') made[field.key] = field.choices![0]!.value
      else if (field.as === 'query') made[field.key] = others.value[0] ?? ''
      else if (field.as === 'text') made[field.key] = 'result'
    }
    if (kind === 'filter') made.is = [String(props.answer?.rows[0]?.[props.answer.columns.findIndex((column) => column.name === made.column)] ?? '')]
    Object.assign(made, usualKeys(kind, columns.value))
    list.push(made)
  })
  open.value = steps.value.length - 1
}
const alterStep = (index: number, field: StepField, value: unknown) => change(`step ${index} ${field.key}`, (one) => setField(one.then![index]!, field, value))
function dropStep(index: number) {
  open.value = null
  change('', (one) => {
    one.then!.splice(index, 1)
    if (!one.then!.length) delete one.then
  })
}
function moveStep(index: number, by: number) {
  change('', (one) => {
    const [moved] = one.then!.splice(index, 1)
    one.then!.splice(index + by, 0, moved!)
  })
  open.value = index + by
}
const columnsBefore = computed<Column[]>(() => around.value.before.rows?.columns ?? columns.value)
const kindOf = (field: StepField) => ({ key: field.key, label: field.label, of: field.as === 'numbers' ? 'number' : 'any', many: field.as === 'columns' || field.as === 'numbers', needed: field.needed }) as const

// Columns
const hint = (name: string) => (query.value?.column ?? []).find((one) => one.name === name) ?? {}
function setHint(name: string, key: string, value: unknown) {
  change(`column ${name} ${key}`, (one) => {
    const list = (one.column ??= [])
    let found = list.find((known) => known.name === name)
    if (!found) list.push((found = { name }))
    if (value === '' || value === null || value === undefined) delete found[key]
    else found[key] = value
    one.column = list.filter((known) => Object.keys(known).length > 1)
    if (!one.column.length) delete one.column
  })
}
const UNITS = ['percent', 'ratio', 'bytes', 'bytes-si', 'bit/s', 'ms', 's', 'days', 'celsius', 'fahrenheit', 'currency:EUR', 'other:points']
const fieldsText = computed(() => (Array.isArray(query.value?.field) ? (query.value.field as Keys[]) : []))
</script>

<template>
  <div v-if="query" class="stack fields">
    <label><span class="small">Name of the query</span><el-input :model-value="name" aria-label="Name of the query" @change="rename" /></label>
    <p v-if="query.of" class="small">Begins with the rows of <strong>{{ query.of }}</strong>.</p>
    <p v-else-if="query.sampler" class="small">What the sampler <strong>{{ query.sampler }}</strong> has kept.</p>
    <template v-else>
      <p class="small">From <strong>{{ source?.title ?? query.source }}</strong><template v-if="pick">, table <strong>{{ pick.table }}</strong></template></p>
      <PageForm v-if="isPage(query)" :query="query" :when="when" @change="change" />
      <template v-if="pick">
        <fieldset><legend class="small">Measured</legend>
          <div v-for="(measure, index) in pick.measure ?? []" :key="index" class="row line">
            <el-select :model-value="String(measure.with ?? 'mean')" class="short" :aria-label="`How measure ${index + 1} is worked out`" :disabled="measure.column === '*'" @update:model-value="changePick('measure', (one) => { one.measure[index]!.with = $event; measureNames(one.measure) })"><el-option v-for="how in measuresOf(source?.kind ?? '')" :key="how.value" :value="how.value" :label="how.label" /></el-select>
            <el-select :model-value="String(measure.column)" class="long" filterable :aria-label="`Measure ${index + 1}`" @update:model-value="changePick('measure', (one) => { one.measure[index]!.column = $event; if ($event === '*') one.measure[index]!.with = 'count'; measureNames(one.measure) })">
              <el-option value="*" label="rows" />
              <el-option v-for="item in items" :key="item.name" :value="item.name" :label="item.name" :disabled="!isNumeric(item) && measure.with !== 'count'" :title="isNumeric(item) ? item.kind : `${item.name} is ${item.kind}; only a count of it can be worked out`" />
            </el-select>
            <el-button v-if="(pick.measure?.length ?? 0) > 1" text size="small" :aria-label="`Leave measure ${index + 1} out`" @click="changePick('', (one) => { one.measure.splice(index, 1); measureNames(one.measure) })">✕</el-button>
          </div>
          <el-button size="small" text @click="changePick('', (one) => { one.measure.push({ column: items.find(isNumeric)?.name ?? '*', with: items.some(isNumeric) ? 'max' : 'count' }); measureNames(one.measure) })">+ measure</el-button>
        </fieldset>
        <label><span class="small">For each</span><el-select :model-value="pick.group ?? []" multiple filterable placeholder="the whole" aria-label="For each" @update:model-value="changePick('group', (one) => ($event.length ? (one.group = $event) : delete one.group))"><el-option v-for="item in items" :key="item.name" :value="item.name" :label="item.name" /></el-select></label>
        <div class="pair">
          <label><span class="small">Time</span><el-select :model-value="pick.time ?? ''" clearable placeholder="no time" aria-label="Column of time" @update:model-value="changePick('time', (one) => { if ($event) one.time = $event; else { delete one.time; delete one['over-time'] } })"><el-option v-for="item in items.filter(isTimely)" :key="item.name" :value="item.name" :label="item.name" /></el-select></label>
          <label v-if="pick.time"><span class="small">One row</span><el-select :model-value="pick['over-time'] === true" aria-label="One row for" @update:model-value="changePick('over-time', (one) => { if ($event) { one['over-time'] = true; delete one.top } else delete one['over-time'] })"><el-option :value="false" label="for the window" /><el-option :value="true" label="for each step of time" /></el-select></label>
        </div>
        <label v-if="pick['over-time']"><span class="small">Step</span><el-input :model-value="String(query.step ?? '')" placeholder="as fits the window" aria-label="Step" @update:model-value="put('step', $event)" /></label>
        <label v-else><span class="small">Only the highest</span><el-input :model-value="String(pick.top ?? '')" placeholder="all" inputmode="numeric" aria-label="Only the highest" @update:model-value="changePick('top', (one) => ($event === '' ? delete one.top : (one.top = asNumber($event))))" /></label>
        <fieldset><legend class="small">Which ones</legend>
          <div v-for="(filter, index) in pick.filter ?? []" :key="index" class="stack tight">
            <div class="row line">
              <el-select :model-value="String(filter.column)" class="long" filterable :aria-label="`Filter ${index + 1}`" @update:model-value="changePick('filter', (one) => (one.filter![index]!.column = $event))"><el-option v-for="item in items" :key="item.name" :value="item.name" :label="item.name" /></el-select>
              <el-select :model-value="testOf(filter)" class="short" :aria-label="`Test of filter ${index + 1}`" @update:model-value="changePick('', (one) => (one.filter![index] = withTest(one.filter![index]!, $event)))"><el-option v-for="test in TESTS" :key="test.value" :value="test.value" :label="test.label" /></el-select>
              <el-button text size="small" :aria-label="`Leave filter ${index + 1} out`" @click="changePick('', (one) => { one.filter!.splice(index, 1); if (!one.filter!.length) delete one.filter })">✕</el-button>
            </div>
            <el-select v-if="['is', 'is-not'].includes(testOf(filter))" :model-value="asList(filter[testOf(filter)])" multiple filterable allow-create default-first-option :aria-label="`Values of filter ${index + 1}`" placeholder="Values" @update:model-value="changePick('filter', (one) => (one.filter![index]![testOf(filter)] = $event))"><el-option v-for="value in valuesOf(filter.column)" :key="value" :value="value" :label="value" /></el-select>
            <el-select v-else-if="testOf(filter) === 'parameter'" :model-value="String(filter.parameter ?? '')" :aria-label="`Parameter of filter ${index + 1}`" placeholder="Parameter" @update:model-value="changePick('filter', (one) => (one.filter![index]!.parameter = $event))"><el-option v-for="one in parameters" :key="one" :value="one" :label="one" /></el-select>
            <div v-else class="row line"><el-input v-for="key in testOf(filter) === 'between' ? ['at-least', 'at-most'] : [testOf(filter)]" :key="key" class="long" :model-value="String(filter[key] ?? '')" :aria-label="`${key} of filter ${index + 1}`" @update:model-value="changePick('filter', (one) => (one.filter![index]![key] = key === 'contains' ? $event : asNumber($event)))" /></div>
          </div>
          <el-button size="small" text @click="changePick('', (one) => (one.filter ??= []).push({ column: items[0]?.name ?? '', is: [] }))">+ condition</el-button>
        </fieldset>
      </template>
      <label v-else-if="query.sql !== undefined"><span class="small">A query in SQL</span><el-input :model-value="String(query.sql)" type="textarea" :rows="8" class="sql" spellcheck="false" aria-label="SQL" @update:model-value="put('sql', $event)" /></label>
      <label v-else-if="query.metric !== undefined"><span class="small">Metric</span><el-input :model-value="Array.isArray(query.metric) ? query.metric.join(', ') : String(query.metric)" aria-label="Metric" @update:model-value="put('metric', $event.includes(',') ? $event.split(',').map((one: string) => one.trim()) : $event)" /></label>
      <template v-else-if="query.file !== undefined">
        <label><span class="small">File</span><el-input :model-value="String(query.file)" aria-label="File" @update:model-value="put('file', $event)" /></label>
        <label><span class="small">Column of time <span class="muted">keeps the rows of the window</span></span><el-select :model-value="String(query.time ?? '')" clearable placeholder="none" aria-label="Column of time" @update:model-value="put('time', $event ?? '')"><el-option v-for="one in columns" :key="one.name" :value="one.name" :label="one.name" /></el-select></label>
      </template>
      <template v-else-if="query.check !== undefined">
        <label><span class="small">Check</span><el-select :model-value="String(query.check)" aria-label="Check" @update:model-value="put('check', $event)"><el-option v-for="one in ['tcp', 'http', 'certificate', 'dns', 'disk']" :key="one" :value="one" :label="one" /></el-select></label>
        <label><span class="small">Targets</span><el-select :model-value="asList(query.targets)" multiple filterable allow-create default-first-option aria-label="Targets" @update:model-value="put('targets', $event)" /></label>
      </template>
      <template v-else-if="query.path !== undefined">
        <label><span class="small">Path</span><el-input :model-value="String(query.path)" aria-label="Path" @update:model-value="put('path', $event)" /></label>
        <label><span class="small">Rows <span class="muted">JSONPath</span></span><el-input :model-value="String(query.rows ?? '')" aria-label="Rows" @update:model-value="put('rows', $event)" /></label>
        <fieldset><legend class="small">Fields</legend>
          <div v-for="(field, index) in fieldsText" :key="index" class="row line">
            <el-input class="long" :model-value="String(field.name ?? '')" :aria-label="`Name of field ${index + 1}`" @update:model-value="change('field', (one) => ((one.field as Keys[])[index]!.name = $event))" />
            <el-input class="long" :model-value="String(field.path ?? '')" :aria-label="`Path of field ${index + 1}`" @update:model-value="change('field', (one) => ((one.field as Keys[])[index]!.path = $event))" />
            <el-select class="short" :model-value="String(field.kind ?? 'text')" :aria-label="`Kind of field ${index + 1}`" @update:model-value="change('field', (one) => ((one.field as Keys[])[index]!.kind = $event))"><el-option v-for="kind in ['text', 'number', 'integer', 'instant', 'boolean']" :key="kind" :value="kind" :label="kind" /></el-select>
            <el-button text size="small" :aria-label="`Leave field ${index + 1} out`" @click="change('', (one) => (one.field as Keys[]).splice(index, 1))">✕</el-button>
          </div>
          <el-button size="small" text @click="change('', (one) => ((one.field ??= []) as Keys[]).push({ name: `field_${fieldsText.length + 1}`, path: '$', kind: 'text' }))">+ field</el-button>
        </fieldset>
      </template>
    </template>

    <fieldset><legend class="small">Then</legend>
      <ol class="steps">
        <li v-for="(one, index) in steps" :key="index">
          <div class="row line"><button type="button" class="said" :aria-expanded="open === index" @click="open = open === index ? null : index">{{ stepWords(one) }}</button></div>
          <div v-if="open === index" class="stack tight inner">
            <label v-for="field in step(one.do)?.fields ?? []" :key="field.key"><span class="small">{{ field.label }}</span>
              <Columns v-if="['column', 'columns', 'numbers'].includes(field.as)" :columns="columnsBefore" :wanted="kindOf(field)" :model-value="one[field.key]" @update:model-value="alterStep(index, field, $event)" />
              <el-select v-else-if="field.as === 'choice'" :model-value="String(one[field.key] ?? '')" :clearable="!field.needed" :aria-label="field.label" placeholder="Usual" @update:model-value="alterStep(index, field, $event)"><el-option v-for="choice in field.choices" :key="choice.value" :value="choice.value" :label="choice.label" /></el-select>
              <el-select v-else-if="field.as === 'query'" :model-value="String(one[field.key] ?? '')" :clearable="!field.needed" :aria-label="field.label" @update:model-value="alterStep(index, field, $event)"><el-option v-for="other in others" :key="other" :value="other" :label="other" /></el-select>
              <el-select v-else-if="field.as === 'values'" :model-value="asList(one[field.key])" multiple filterable allow-create default-first-option :aria-label="field.label" placeholder="any" @update:model-value="alterStep(index, field, $event)"><el-option v-for="value in [...new Set((around.before.rows?.rows ?? []).map((row) => row[around.before.rows!.columns.findIndex((column) => column.name === one.column)]).filter((cell): cell is string => typeof cell === 'string'))]" :key="value" :value="value" :label="value" /></el-select>
              <el-switch v-else-if="field.as === 'truth'" :model-value="one[field.key] === true" :aria-label="field.label" @update:model-value="alterStep(index, field, $event)" />
              <el-input v-else :model-value="String(one[field.key] ?? '')" :placeholder="field.usual" :aria-label="field.label" @update:model-value="alterStep(index, field, $event)" />
            </label>
            <div v-for="(found, where) in around" :key="where" class="small">
              <p v-if="found.wrong" class="bad">◆ {{ found.wrong }}</p>
              <template v-else-if="found.rows"><span class="muted">{{ where === 'before' ? 'Before' : 'After' }} this step, {{ found.rows.row_count.toLocaleString('en') }} {{ found.rows.row_count === 1 ? 'row' : 'rows' }}:</span>
                <div class="scroll" tabindex="0" role="region" :aria-label="`Rows ${where} this step`"><table class="list"><thead><tr><th v-for="column in found.rows.columns" :key="column.name">{{ column.name }}</th></tr></thead><tbody><tr v-for="(row, place) in found.rows.rows.slice(0, 4)" :key="place"><td v-for="(cell, number) in row" :key="number" class="whole">{{ cell ?? '–' }}</td></tr></tbody></table></div>
              </template>
            </div>
            <div class="row"><el-button size="small" :disabled="index === 0" @click="moveStep(index, -1)">Earlier</el-button><el-button size="small" :disabled="index === steps.length - 1" @click="moveStep(index, 1)">Later</el-button><el-button size="small" type="danger" plain @click="dropStep(index)">Remove step</el-button></div>
          </div>
        </li>
      </ol>
      <el-dropdown trigger="click" max-height="320px" @command="addStep"><el-button size="small" text aria-label="Add a step">+ step</el-button><template #dropdown><el-dropdown-menu><el-dropdown-item v-for="one in STEPS" :key="one.do" :command="one.do">{{ one.label }}</el-dropdown-item></el-dropdown-menu></template></el-dropdown>
    </fieldset>

    <p v-if="wrong" class="bad" role="alert">◆ {{ wrong }}</p>
    <template v-else-if="answer">
      <p class="small"><strong>{{ answer.row_count.toLocaleString('en') }} {{ answer.row_count === 1 ? 'row' : 'rows' }}</strong> in {{ answer.milliseconds }} ms<template v-if="answer.note">. ▲ {{ answer.note }}</template></p>
      <details><summary class="small">Titles, units and thresholds</summary>
        <div v-for="column in answer.columns" :key="column.name" class="column stack tight">
          <code>{{ column.name }}</code>
          <div class="pair even"><el-input :model-value="String(hint(column.name).title ?? '')" placeholder="Title" :aria-label="`Title of ${column.name}`" @update:model-value="setHint(column.name, 'title', $event)" /><el-select v-if="column.numeric" :model-value="String(hint(column.name).unit ?? '')" filterable allow-create clearable placeholder="Unit" :aria-label="`Unit of ${column.name}`" @update:model-value="setHint(column.name, 'unit', $event)"><el-option v-for="unit in UNITS" :key="unit" :value="unit" :label="unit" /></el-select></div>
          <label v-if="column.numeric" class="row small">Decimals <el-input-number :model-value="(hint(column.name).decimals as number | undefined) ?? null" :min="0" :max="6" size="small" controls-position="right" placeholder="As they suit" :aria-label="`Decimals of ${column.name}`" @update:model-value="setHint(column.name, 'decimals', $event)" /></label>
          <div v-if="column.numeric" class="triple"><el-input :model-value="String(hint(column.name).warning ?? '')" placeholder="Warning from" inputmode="decimal" :aria-label="`Warning of ${column.name}`" @change="setHint(column.name, 'warning', asNumber($event))" /><el-input :model-value="String(hint(column.name).critical ?? '')" placeholder="Critical from" inputmode="decimal" :aria-label="`Critical of ${column.name}`" @change="setHint(column.name, 'critical', asNumber($event))" /><el-select :model-value="String(hint(column.name).worse ?? 'higher')" :aria-label="`Worse of ${column.name}`" @update:model-value="setHint(column.name, 'worse', $event === 'higher' ? '' : $event)"><el-option value="higher" label="Higher is worse" /><el-option value="lower" label="Lower is worse" /></el-select></div>
        </div>
      </details>
      <div class="scroll rows"><table class="list small"><thead><tr><th v-for="column in answer.columns" :key="column.name">{{ column.name }}</th></tr></thead><tbody><tr v-for="(row, index) in answer.rows.slice(0, 12)" :key="index"><td v-for="(cell, number) in row" :key="number" class="whole">{{ cell ?? '–' }}</td></tr></tbody></table></div>
      <details><summary class="small">As the source gets it</summary><pre class="sent">{{ answer.sent }}</pre></details>
    </template>
    <p v-else class="muted small">Asking …</p>
  </div>
</template>

<style scoped>
p { margin: 0; }
.fields { gap: 0.8rem; }
label { display: grid; gap: 0.25rem; min-width: 0; }
fieldset { border: 0; margin: 0; padding: 0; display: grid; gap: 0.4rem; min-width: 0; justify-items: start; }
fieldset > * { width: 100%; }
fieldset > .el-button, fieldset > .el-dropdown { width: auto; }
.line { flex-wrap: nowrap; gap: 0.4rem; }
.short { width: 9.5rem; flex: none; }
.long { flex: 1; min-width: 0; }
.tight { gap: 0.4rem; }
.pair { display: grid; grid-template-columns: repeat(2, minmax(0, 1fr)); gap: 0.6rem; }
.triple { display: grid; grid-template-columns: 1fr 1fr 1.3fr; gap: 0.4rem; }
.steps { margin: 0; padding-left: 1.3rem; display: grid; gap: 0.35rem; }
.said { all: unset; cursor: pointer; border-bottom: 1px dotted var(--sea); color: var(--sea); overflow-wrap: anywhere; }
.said:focus-visible { outline: 2px solid var(--sea); outline-offset: 2px; }
.inner { border-left: 2px solid var(--line); padding: 0.4rem 0 0.4rem 0.7rem; margin-top: 0.3rem; }
.rows { max-height: 15rem; overflow: auto; }
.column { padding: 0.5rem 0; border-bottom: 1px solid var(--line); }
.sql :deep(textarea) { font: 0.82rem/1.5 ui-monospace, 'DejaVu Sans Mono', monospace; white-space: pre; overflow-x: auto; }
.sent { font: 0.8rem/1.5 ui-monospace, 'DejaVu Sans Mono', monospace; white-space: pre-wrap; overflow-wrap: anywhere; margin: 0.4rem 0 0; }
.bad { color: var(--critical); overflow-wrap: anywhere; }
</style>
