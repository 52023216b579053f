<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, take, type ReportView } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import RunNow from '../parts/RunNow.vue'
import ContentMark from '../parts/ContentMark.vue'
import StateMark from '../parts/StateMark.vue'
import { useLoaded } from '../parts/load'
import { countWords, ORDERS, queryOf, STATES } from '../reports/list'
import { isAuthor } from '../session'
import { instant } from '../words'

const route = useRoute()
const router = useRouter()
// What is asked for stands in the address, so that a view can be bookmarked.
const asked = (key: string) => computed({ get: () => String(route.query[key] ?? ''), set: (value: string) => void router.replace({ query: { ...route.query, [key]: value || undefined, page: undefined } }) })
const [search, state, order, tag] = [asked('search'), asked('state'), asked('order'), asked('tag')]
const page = computed({ get: () => Math.max(1, Number(route.query.page) || 1), set: (value: number) => void router.replace({ query: { ...route.query, page: value > 1 ? String(value) : undefined } }) })
// Thousands of reports are found and counted by the service, and shown a page at a time.
const SIZE = 50
const { data, error, load } = useLoaded(() => take(api.GET('/reports', { params: { query: queryOf({ search: search.value, state: state.value, order: order.value, tag: tag.value }, page.value, SIZE) } })), 5000)
let timer: ReturnType<typeof setTimeout> | undefined
watch(() => route.query, () => {
  if (route.name !== 'reports') return
  clearTimeout(timer)
  timer = setTimeout(() => void load(), 150)
})
const rows = computed(() => data.value?.items ?? [])

// Several at once; what is not in sight is not chosen.
const chosen = ref<string[]>([])
const marked = computed(() => rows.value.filter((report) => chosen.value.includes(report.name)))
const all = computed({ get: () => rows.value.length > 0 && marked.value.length === rows.value.length, set: (on: boolean) => (chosen.value = on ? rows.value.map((report) => report.name) : []) })
const choose = (name: string, on: boolean) => (chosen.value = on ? [...chosen.value, name] : chosen.value.filter((one) => one !== name))
const busy = ref(false)
async function each(what: (name: string) => Promise<unknown>, question?: string, button?: string) {
  const names = marked.value.map((report) => report.name)
  if (question && !(await ElMessageBox.confirm(question, `${button} ${names.length === 1 ? 'one report' : `${names.length} reports`}?`, { confirmButtonText: button, cancelButtonText: 'Cancel', type: 'warning' }).then(() => true, () => false))) return
  busy.value = true
  const failed: string[] = []
  for (const name of names) await what(name).catch((problem: unknown) => failed.push(`${name}: ${problem instanceof Error ? problem.message : String(problem)}`))
  busy.value = false
  if (failed.length) complain(failed.join(' '))
  else chosen.value = []
  await load()
}
const path = (name: string) => ({ params: { path: { name } } })
// The schedule of one, on or off.
const switching = ref('')
async function turn(report: ReportView) {
  switching.value = report.name
  await take(report.paused ? api.POST('/reports/{name}/resume', path(report.name)) : api.POST('/reports/{name}/pause', path(report.name))).catch(complain)
  await load()
  switching.value = ''
}
const pause = () => each((name) => take(api.POST('/reports/{name}/pause', path(name))))
const resume = () => each((name) => take(api.POST('/reports/{name}/resume', path(name))))
const runAll = () => each((name) => take(api.POST('/reports/{name}/runs', { ...path(name), body: { deliver: false, to: [] } })))
async function tagAll() {
  const answer = await ElMessageBox.prompt('Reports that have it already keep it once.', 'Which tag do they get?', { inputPattern: /\S/, inputErrorMessage: 'Enter a word', confirmButtonText: 'Tag', cancelButtonText: 'Cancel' }).catch(() => null)
  const word = answer?.value.trim()
  if (!word) return
  await each((name) => {
    const known = rows.value.find((report) => report.name === name)?.tags ?? []
    return known.includes(word) ? Promise.resolve() : take(api.PATCH('/definitions/{kind}/{name}', { params: { path: { kind: 'report', name } }, body: { keys: { report: { tags: [...known, word] } } } }))
  })
}
const removeAll = () => each((name) => take(api.DELETE('/definitions/{kind}/{name}', { params: { path: { kind: 'report', name } } })), 'They go with their schedules and definitions, and can be restored from their history. Runs and documents that were made stay.', 'Remove')
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Reports</h1>
      <div v-if="isAuthor" class="row">
        <RouterLink to="/templates"><el-button type="primary" plain tabindex="-1">New from ready-made</el-button></RouterLink>
        <RouterLink :to="{ name: 'new-report' }"><el-button tabindex="-1">New report</el-button></RouterLink>
      </div>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <div v-if="data && !data.all" class="card stack">
        <h2>There are no reports yet</h2>
        <p>Begin with something ready-made: pick a question, choose a source, look at it with your own data, and have it sent.</p>
        <div class="row"><RouterLink to="/templates"><el-button type="primary" tabindex="-1">Ready-made reports</el-button></RouterLink><RouterLink :to="{ name: 'new-page-report' }"><el-button tabindex="-1">A page I already have</el-button></RouterLink></div>
        <p class="muted small">Or write one as a TOML file and run <code>maple-lark apply FOLDER</code>.</p>
      </div>
      <div v-else-if="data" class="card scroll stack">
        <div class="row">
          <el-input v-model="search" class="search" clearable placeholder="Search" aria-label="Search" />
          <el-select v-model="state" class="choice" :empty-values="[null, undefined]" aria-label="State"><el-option v-for="one in STATES" :key="one.value" :value="one.value" :label="one.label" /></el-select>
          <el-select v-model="order" class="choice" :empty-values="[null, undefined]" aria-label="Order"><el-option v-for="one in ORDERS" :key="one.value" :value="one.value" :label="one.label" /></el-select>
          <el-select v-if="data.tags.length" v-model="tag" class="choice" :empty-values="[null, undefined]" aria-label="Tag"><el-option value="" label="Every tag" /><el-option v-for="one in data.tags" :key="one" :value="one" :label="one" /></el-select>
          <span class="muted small">{{ data.total === data.all ? `${data.all} reports` : `${data.total} of ${data.all} reports` }}</span>
        </div>
        <div v-if="marked.length" class="row marked" role="toolbar" aria-label="What to do with the chosen reports">
          <strong>{{ marked.length }} chosen</strong>
          <el-button size="small" :loading="busy" @click="pause">Pause</el-button><el-button size="small" :loading="busy" @click="resume">Resume</el-button>
          <el-button size="small" :loading="busy" @click="tagAll">Tag …</el-button>
          <el-button size="small" :loading="busy" @click="runAll">Run without sending</el-button><el-button size="small" type="danger" plain :loading="busy" @click="removeAll">Remove</el-button>
        </div>
        <p v-if="!rows.length" class="muted">No report is like this. <a href="#" @click.prevent="router.replace({ query: {} })">Show all</a></p>
        <table v-else class="list folds">
          <thead>
            <tr><th v-if="isAuthor"><el-checkbox v-model="all" aria-label="Choose all on this page" /></th><th>Report</th><th>Schedule and window</th><th>Last run</th><th>Next run</th><th v-if="isAuthor"><span class="muted">Actions</span></th></tr>
          </thead>
          <tbody>
            <tr v-for="report in rows" :key="report.name">
              <td v-if="isAuthor" class="choose"><el-checkbox :model-value="chosen.includes(report.name)" :aria-label="`Choose ${report.title}`" @update:model-value="choose(report.name, $event === true)" /></td>
              <td>
                <RouterLink :to="{ name: 'report', params: { name: report.name } }"><strong>{{ report.title }}</strong></RouterLink> <button v-for="one in report.tags" :key="one" type="button" class="tag small" :aria-label="`Only reports tagged ${one}`" @click="tag = one">{{ one }}</button>
                <div class="muted small">{{ report.formats.join(', ').toUpperCase() }} to {{ [...report.audiences.map((one) => one.name), ...report.audiences_from.map(() => 'everybody a query names')].join(', ') || 'nobody' }}</div>
              </td>
              <td data-label="Schedule">{{ report.schedule ?? 'On request' }}<div class="muted small">{{ report.window }}, {{ report.time_zone }}</div></td>
              <td data-label="Last run">
                <template v-if="report.last_run">
                  <RouterLink class="plain" :to="{ name: 'run', params: { id: report.last_run.id } }"><StateMark :state="report.last_run.state" /></RouterLink> <ContentMark :status="report.last_run.status" />
                  <div class="muted small">{{ instant(report.last_run.created_at, report.time_zone) }}</div>
                  <div class="muted small">{{ countWords(report) }}</div>
                </template>
                <span v-else class="muted">Never</span>
              </td>
              <td data-label="Next run" class="whole"><el-switch v-if="isAuthor && report.schedule" :model-value="!report.paused" size="small" :aria-label="`${report.title}: on its schedule`" :loading="switching === report.name" @change="turn(report)" /> <StateMark v-if="report.paused" state="paused" /><template v-else>{{ instant(report.next, report.time_zone) }}</template></td>
              <td v-if="isAuthor"><RunNow :report="report" compact @changed="load" /></td>
            </tr>
          </tbody>
        </table>
        <el-pagination v-if="data.total > SIZE" v-model:current-page="page" :page-size="SIZE" :total="data.total" layout="prev, pager, next" background aria-label="Pages of reports" />
      </div>
    </Loading>
  </div>
</template>

<style scoped>
.search { max-width: 16rem; }
.choice { width: 13rem; }
.marked { background: var(--ground); border-radius: 8px; padding: 0.4rem 0.7rem; }
p { margin: 0; }
.choose { width: 2rem; }
.tag { all: unset; cursor: pointer; border: 1px solid var(--line); border-radius: 999px; padding: 0 0.5rem; margin-right: 0.3rem; font-size: 0.8rem; color: var(--muted); }
.tag:hover, .tag:focus-visible { border-color: var(--sea); color: var(--sea); }
.tag:focus-visible { outline: 2px solid var(--sea); outline-offset: 2px; }
.plain { text-decoration: none; }
.plain:hover { text-decoration: underline; }
</style>
