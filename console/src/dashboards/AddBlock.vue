<script setup lang="ts">
// Something to be added: from a source, from a query that is there, from another dashboard, or
// words. What is chosen is on the page at once and is refined there.
import { computed, ref, watch } from 'vue'

import { api, take, type Schemas } from '../api/client'
import { freshName, queryName, type Block, type Dashboard, type Query } from './model'
import { beginPage, pageBlock } from './page'
import { begin } from '../forms/sources'
import { isDatabase } from '../forms/sources'

const open = defineModel<boolean>({ required: true })
const props = defineProps<{ keys: Dashboard; sources: Schemas['SourceView'][]; others: string[] }>()
const emit = defineEmits<{ add: [block: Block, query?: Query] }>()

const source = ref('')
const search = ref('')
const entries = ref<Schemas['CatalogueEntry'][] | null>(null)
const refused = ref<string | null>(null)
let asked = 0
let timer: ReturnType<typeof setTimeout> | undefined
async function browse() {
  const mine = ++asked
  refused.value = null
  try {
    const found = await take(api.GET('/sources/{name}/catalogue', { params: { path: { name: source.value }, query: { search: search.value } } }))
    if (mine === asked) entries.value = found
  } catch (problem) {
    if (mine === asked) [entries.value, refused.value] = [[], problem instanceof Error ? problem.message : String(problem)]
  }
}
watch(source, (now) => {
  entries.value = null
  search.value = ''
  if (now) void browse()
})
watch(search, () => {
  clearTimeout(timer)
  timer = setTimeout(() => source.value && void browse(), 250)
})
watch(open, (now) => {
  if (now && !source.value && props.sources.length === 1) source.value = props.sources[0]!.name
})
const kind = computed(() => props.sources.find((one) => one.name === source.value)?.kind ?? '')
const queries = computed(() => (props.keys.query ?? []).map((one) => one.name))

function done(block: Block, query?: Query) {
  open.value = false
  emit('add', block, query)
}
const words = (name: string) => {
  const plain = name.split(/[./]/).filter((part) => part && !['public', 'csv', 'jsonl', 'ndjson'].includes(part)).pop() ?? name
  return plain.replace(/[_-]+/g, ' ').replace(/^\p{Ll}/u, (letter) => letter.toUpperCase())
}
function fromEntry(entry: Schemas['CatalogueEntry']) {
  const name = freshName(queryName(words(entry.name)), queries.value)
  done({ show: 'table', title: words(entry.name), query: name }, { name, source: source.value, ...begin(kind.value, entry) })
}
function bySql() {
  const name = freshName('query', queries.value)
  done({ show: 'table', title: 'New block', query: name }, { name, source: source.value, sql: 'select 1 as one' })
}
function byPage() {
  const title = props.sources.find((one) => one.name === source.value)?.title ?? 'The page'
  const name = freshName('page', queries.value)
  done(pageBlock(title, name), { name, source: source.value, ...beginPage() })
}
function byPath() {
  const name = freshName('query', queries.value)
  done({ show: 'table', title: 'New block', query: name }, { name, source: source.value, ...begin(kind.value, { name: '/', kind: '', unit: '', description: '', items: [] }) })
}
</script>

<template>
  <el-dialog v-model="open" title="Add to this dashboard" width="min(46rem, 94vw)" top="7vh">
    <div class="stack">
      <div class="asked">
        <label><span class="small">Something from a source</span><el-select v-model="source" filterable aria-label="Source" placeholder="Choose a source"><el-option v-for="one in sources" :key="one.name" :value="one.name" :label="one.title" /></el-select></label>
        <label v-if="source"><span class="small">What is to be shown</span><el-input v-model="search" aria-label="Search what the source has" placeholder="Search tables, metrics, files" clearable /></label>
      </div>
      <p v-if="!sources.length" class="muted">There is no source yet. <RouterLink to="/new/source">Add a source</RouterLink> first.</p>
      <template v-if="source">
        <p v-if="refused" class="bad" role="alert">◆ {{ refused }}</p>
        <div v-else-if="kind === 'web-page'" class="row"><el-button type="primary" plain @click="byPage">The page, as it looks</el-button><span class="muted small">Parts of it, a table or its CSV are chosen on its picture.</span></div>
        <p v-else-if="!entries" class="muted">Looking at what it has …</p>
        <template v-else>
          <ul v-if="entries.length" class="entries">
            <li v-for="entry in entries" :key="entry.name">
              <button type="button" @click="fromEntry(entry)"><strong>{{ entry.name }}</strong> <span class="muted small">{{ entry.kind }}{{ entry.unit ? `, ${entry.unit}` : '' }}</span><br /><span class="muted small">{{ entry.description || entry.items.map((item) => item.name).slice(0, 9).join(', ') }}</span></button>
            </li>
          </ul>
          <p v-else class="muted">{{ search ? 'Nothing fits.' : 'This source does not say what it has.' }}</p>
          <div class="row"><el-button v-if="isDatabase(kind)" size="small" @click="bySql">Write SQL instead</el-button><el-button v-if="kind === 'http-json'" size="small" @click="byPath">Name a path instead</el-button></div>
        </template>
      </template>
      <div class="asked">
        <label v-if="queries.length"><span class="small">A query that is there</span><el-select model-value="" aria-label="A query that is there" placeholder="Choose a query" @update:model-value="done({ show: 'table', title: words(String($event)), query: String($event) })"><el-option v-for="one in queries" :key="one" :value="one" :label="one" /></el-select></label>
        <label v-if="others.length"><span class="small">A block of another dashboard</span><el-select model-value="" filterable aria-label="A block of another dashboard" placeholder="Choose a block" @update:model-value="done({ from: String($event) })"><el-option v-for="one in others" :key="one" :value="one" :label="one" /></el-select></label>
      </div>
      <div class="row">
        <el-button size="small" @click="done({ show: 'text', text: 'What readers should know.' })">Text</el-button>
        <el-button size="small" @click="done({ show: 'image', description: '', data: '' })">Picture</el-button>
        <el-button size="small" @click="done({ show: 'page-break' })">New page</el-button>
      </div>
    </div>
  </el-dialog>
</template>

<style scoped>
p { margin: 0; }
.asked { display: grid; grid-template-columns: repeat(auto-fit, minmax(15rem, 1fr)); gap: 0.8rem; }
label { display: grid; gap: 0.25rem; }
.entries { list-style: none; margin: 0; padding: 0; max-height: 42vh; overflow-y: auto; border: 1px solid var(--line); border-radius: 8px; }
.entries button { all: unset; box-sizing: border-box; width: 100%; cursor: pointer; padding: 0.5rem 0.8rem; border-bottom: 1px solid var(--line); overflow-wrap: anywhere; }
.entries button:hover, .entries button:focus-visible { background: var(--ground); outline: 2px solid var(--sea); outline-offset: -2px; }
.bad { color: var(--critical); overflow-wrap: anywhere; }
</style>
