<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { at } from '../api/base'
import { api, follow, take, type RunView, type Schemas } from '../api/client'
import { complain } from '../complain'
import KeepRun from '../parts/KeepRun.vue'
import Loading from '../parts/Loading.vue'
import SendAgain from '../parts/SendAgain.vue'
import Publish from '../published/Publish.vue'
import ContentMark from '../parts/ContentMark.vue'
import StateMark from '../parts/StateMark.vue'
import { isAuthor } from '../session'
import { instant, size, took } from '../words'

const route = useRoute()
const run = ref<RunView | null>(null)
const error = ref<string | null>(null)
const shown = ref<Schemas['DocumentView'] | null>(null)
let stop: (() => void) | undefined
onUnmounted(() => stop?.())

async function load() {
  const id = String(route.params.id)
  stop?.()
  try {
    run.value = await take(api.GET('/runs/{id}', { params: { path: { id } } }))
    error.value = null
    if (!run.value.settled) stop = follow(id, (now) => (run.value = now))
  } catch (problem) {
    error.value = problem instanceof Error ? problem.message : String(problem)
  }
}
watch(() => route.params.id, load, { immediate: true })

// The definitions are not for viewers, who see the rest.
const made = ref<Schemas['RunDefinition'][]>([])
watch(
  () => [route.params.id, isAuthor.value] as const,
  async ([id, may]) => {
    made.value = !may ? [] : await take(api.GET('/runs/{id}/definitions', { params: { path: { id: String(id) } } })).catch(() => [])
  },
  { immediate: true },
)

// What was there instead of pages that could not be captured; for those who can mend it.
const failedPages = ref<Schemas['FailedPage'][]>([])
watch(
  () => [route.params.id, isAuthor.value, run.value?.settled] as const,
  async ([id, may, settled]) => {
    failedPages.value = !may || !settled ? [] : await take(api.GET('/runs/{id}/failed-pages', { params: { path: { id: String(id) } } })).catch(() => [])
  },
  { immediate: true },
)

// What the service's log says of it, once somebody asks; for those who can mend it.
const log = ref<Schemas['RunLog'] | null>(null)
const logPage = ref(1)
async function readLog() {
  try {
    log.value = await take(api.GET('/runs/{id}/log', { params: { path: { id: String(route.params.id) }, query: { page: logPage.value } } }))
  } catch (problem) {
    complain(problem)
  }
}
watch(logPage, readLog)
watch(
  () => route.params.id,
  () => {
    log.value = null
    logPage.value = 1
  },
)

const cancelling = ref(false)
async function cancel() {
  cancelling.value = true
  try {
    run.value = await take(api.POST('/runs/{id}/cancel', { params: { path: { id: String(route.params.id) } } }))
  } catch (problem) {
    complain(problem)
  } finally {
    cancelling.value = false
  }
}

const releasing = ref(false)
async function release() {
  const audiences = [...new Set((run.value?.snapshots ?? []).flatMap((snapshot) => snapshot.audiences))]
  const whom = audiences.length ? `to ${audiences.join(', ')}` : 'to the audiences of its report'
  const sure = await ElMessageBox.confirm(`This sends its documents ${whom}.`, 'Send this run?', { confirmButtonText: 'Send', cancelButtonText: 'Cancel' }).then(() => true, () => false)
  if (!sure) return
  releasing.value = true
  try {
    run.value = await take(api.POST('/runs/{id}/release', { params: { path: { id: String(route.params.id) } } }))
    await load()
  } catch (problem) {
    complain(problem)
  } finally {
    releasing.value = false
  }
}
async function revoke() {
  try {
    run.value = await take(api.DELETE('/runs/{id}/links', { params: { path: { id: String(route.params.id) } } }))
  } catch (problem) {
    complain(problem)
  }
}
/** Copies go out while the run stays what it is, so they are watched for a while. */
async function watchCopies(now: RunView) {
  run.value = now
  for (let i = 0; i < 20 && run.value?.deliveries.some((one) => one.copy > 0 && one.state === 'waiting'); i++) {
    await new Promise((done) => setTimeout(done, 500))
    run.value = await take(api.GET('/runs/{id}', { params: { path: { id: now.id } } }))
  }
}
const hasAudiences = computed(() => (run.value?.snapshots ?? []).some((snapshot) => snapshot.audiences.length > 0))
const releasable = computed(() => run.value?.state === 'awaiting-approval' || (run.value?.state === 'held' && run.value.documents.length > 0) || (run.value?.state === 'completed' && hasAudiences.value))

// Thousands of recipients are shown a page at a time.
const wanted = ref('')
const page = ref(1)
const PAGE = 50
const found = computed(() => (run.value?.deliveries ?? []).filter((one) => `${one.recipient} ${one.audience} ${one.state}`.toLowerCase().includes(wanted.value.toLowerCase())))
const onPage = computed(() => found.value.slice((page.value - 1) * PAGE, page.value * PAGE))
watch(wanted, () => (page.value = 1))
const opened = ref(new Set<string>())
const fold = (id: string) => (opened.value.has(id) ? opened.value.delete(id) : opened.value.add(id))
const liveLinks = computed(() => (run.value?.links ?? []).filter((one) => !one.revoked_at))

const forWhom = computed(() => {
  const names = new Map<string, string>()
  for (const snapshot of run.value?.snapshots ?? []) names.set(snapshot.id, snapshot.audiences.join(', '))
  return names
})
// The view that is looked at, or the first.
const publishable = computed(() => run.value?.snapshots.find((one) => !one.removed_at && one.id === (shown.value?.snapshot_id ?? one.id))?.id)
const wentAt = computed(() => run.value?.documents.find((document) => document.removed_at)?.removed_at)
const viewable = computed(() => (run.value?.documents ?? []).filter((document) => !document.removed_at && ['pdf', 'html', 'png', 'txt'].includes(document.format) && document.media_type !== 'application/zip'))
// As the report has them, and as each reader has them who reads numbers and days otherwise.
const readings = computed(() => [...new Set(viewable.value.map((one) => one.variant))].map((variant) => [variant, viewable.value.filter((one) => one.variant === variant)] as const))
watch(viewable, (documents) => {
  shown.value ??= documents.find((document) => document.format === 'pdf') ?? documents[0] ?? null
})
const link = (document: Schemas['DocumentView']) => at(`/api/v1/documents/${document.id}`)
</script>

<template>
  <Loading :error="run ? null : error" :ready="run !== null" @again="load">
    <div v-if="run" class="stack">
      <div>
        <p class="small crumbs"><RouterLink to="/runs">Runs</RouterLink> / <RouterLink :to="{ name: 'report', params: { name: run.report } }">{{ run.report }}</RouterLink></p>
        <div class="row spread">
          <h1>{{ run.title }}</h1>
          <span class="row"><el-button v-if="isAuthor && releasable" size="small" type="primary" :loading="releasing" @click="release">{{ run.state === 'held' ? 'Release and send …' : run.state === 'completed' ? 'Send …' : 'Approve and send …' }}</el-button><el-button v-if="isAuthor && !run.settled" size="small" :loading="cancelling" @click="cancel">Cancel this run</el-button><span class="how" aria-live="polite"><StateMark :state="run.state" /> <ContentMark :status="run.status" /></span></span>
        </div>
        <p class="when">{{ run.window.label }} <span class="muted small">{{ run.window.in_words }}</span></p>
      </div>
      <el-alert v-if="run.state === 'waiting'" type="info" :closable="false" show-icon title="Waiting for its data" :description="run.steps.find((step) => step.kind === 'wait')?.detail ?? undefined" />
      <el-alert v-if="run.state === 'awaiting-approval'" type="warning" :closable="false" show-icon title="Awaiting approval" :description="isAuthor ? `Check the documents, then approve and send before ${instant(run.approval_deadline, run.window.time_zone)}.` : `It is decided before ${instant(run.approval_deadline, run.window.time_zone)}.`" />
      <el-alert v-if="run.incomplete" type="warning" :closable="false" show-icon title="Its data may be incomplete" :description="run.incomplete" />
      <el-alert v-if="run.problem" :type="run.state === 'failed' ? 'error' : ['cancelled', 'skipped', 'quiet'].includes(run.state) ? 'info' : 'warning'" :closable="false" show-icon :title="run.problem" role="alert" />

      <section class="card" aria-labelledby="documents">
        <div class="row spread"><h2 id="documents">Documents</h2><span class="row"><Publish v-if="isAuthor && publishable" :subject="{ snapshot: publishable }" :title="run.title" /><KeepRun v-if="run.settled" :run="run" @changed="(now) => (run = now)" /></span></div>
        <p v-if="!run.documents.length" class="muted">{{ run.settled ? 'There are no documents.' : 'Documents appear here as soon as they are rendered.' }}</p>
        <template v-else>
          <p v-if="wentAt" class="muted">They went {{ instant(wentAt, run.window.time_zone) }}, after as long as they are kept.{{ run.snapshots.some((one) => !one.removed_at) ? ' They can be made again of the snapshot: maple-lark render.' : '' }}</p>
          <div v-for="[variant, documents] in readings" :key="variant" class="row tabs" role="group" :aria-label="variant ? `Show a document as read with ${variant}` : 'Show a document'">
            <span v-if="variant" class="muted small">As read with {{ variant }}:</span>
            <el-button v-for="document in documents" :key="document.id" size="small" :type="shown?.id === document.id ? 'primary' : ''" :aria-pressed="shown?.id === document.id" @click="shown = document">
              {{ document.format.toUpperCase() }}<template v-if="forWhom.size > 1">, {{ forWhom.get(document.snapshot_id) }}</template>
            </el-button>
          </div>
          <iframe v-if="shown" :key="shown.id" class="document" :src="link(shown)" :title="`${shown.format.toUpperCase()} of ${run.title}`" />
          <details>
            <summary>All {{ run.documents.length }} files</summary>
            <table class="list">
              <tbody>
                <tr v-for="document in run.documents" :key="document.id">
                  <td><template v-if="document.removed_at">{{ document.file_name }}</template><a v-else :href="`${link(document)}?download=true`" download>{{ document.file_name }}</a><div class="muted small hash">SHA-256 {{ document.sha256 }}</div></td>
                  <td class="whole muted">{{ size(document.size) }}</td>
                </tr>
              </tbody>
            </table>
          </details>
        </template>
      </section>

      <section v-if="failedPages.length" class="card stack" aria-labelledby="failed-pages">
        <h2 id="failed-pages">What was there instead</h2>
        <figure v-for="page in failedPages" :key="page.at" class="instead"><figcaption class="small">{{ page.subject }}, {{ instant(page.at, run.window.time_zone) }}. Fields are blank.</figcaption><img :src="`data:image/png;base64,${page.picture}`" :alt="`What ${page.subject} showed instead of the page`" /></figure>
      </section>

      <section class="card scroll" aria-labelledby="deliveries">
        <div class="row spread">
          <h2 id="deliveries">Deliveries</h2>
          <div v-if="run.deliveries.length" class="row">
            <el-input v-if="run.deliveries.length > 10" v-model="wanted" size="small" clearable placeholder="Find a recipient" aria-label="Find a recipient" />
            <SendAgain v-if="isAuthor" :run="run" @sent="watchCopies" />
          </div>
        </div>
        <p v-if="!run.deliveries.length" class="muted">{{ run.state === 'completed' ? 'This run was not to be sent.' : run.state === 'quiet' ? 'Nothing was worth sending.' : 'There are no deliveries yet.' }}</p>
        <table v-else class="list folds">
          <thead><tr><th>State</th><th>Recipient</th><th>Audience</th><th>Attempts</th><th>Answer</th></tr></thead>
          <tbody>
            <tr v-for="delivery in onPage" :key="delivery.id">
              <td class="whole"><StateMark :state="delivery.state" /></td>
              <td>{{ delivery.recipient }}<div class="muted small">{{ [delivery.channel === 'mail' ? '' : delivery.channel, delivery.role === 'to' ? '' : delivery.role, delivery.copy ? `copy, asked for by ${delivery.requested_by}` : '', delivery.variant && `as read with ${delivery.variant}`].filter(Boolean).join(' · ') }}</div></td>
              <td data-label="Audience">{{ delivery.audience }}</td>
              <td data-label="Attempts"><button v-if="delivery.attempts.length > 1" type="button" class="more" :aria-expanded="opened.has(delivery.id)" @click="fold(delivery.id)">{{ delivery.attempts.length }}</button><template v-else>{{ delivery.attempts.length }}</template></td>
              <td class="small" data-label="Answer">
                {{ delivery.state === 'bounced' ? delivery.problem : (delivery.attempts.at(-1)?.answer ?? '–') }}
                <div v-if="delivery.next_attempt_at" class="muted">Next attempt {{ instant(delivery.next_attempt_at) }}</div>
                <ol v-if="opened.has(delivery.id)" class="attempts"><li v-for="(attempt, index) in delivery.attempts" :key="index">{{ instant(attempt.started_at) }}: <b>{{ attempt.outcome ?? 'under way' }}</b> {{ attempt.answer }}</li></ol>
              </td>
            </tr>
          </tbody>
        </table>
        <el-pagination v-if="found.length > PAGE" v-model:current-page="page" size="small" layout="prev, pager, next, total" :total="found.length" :page-size="PAGE" />
        <p v-if="run.links.length" class="small links">Signed links: {{ run.links.filter((one) => one.opened).length }} of {{ run.links.length }} opened; {{ liveLinks.length ? `good until ${instant(liveLinks[0]!.expires_at)}` : 'all ended' }}. <el-button v-if="isAuthor && liveLinks.length" size="small" @click="revoke">End them now</el-button></p>
      </section>

      <section class="card scroll" aria-labelledby="steps">
        <h2 id="steps">Step by step</h2>
        <table class="list folds">
          <thead><tr><th>State</th><th>Step</th><th>What</th><th>Took</th><th>Result</th></tr></thead>
          <tbody>
            <tr v-for="step in run.steps" :key="step.kind + step.subject">
              <td class="whole"><StateMark :state="step.state" /></td>
              <td>{{ step.kind }}</td>
              <td>{{ step.subject }}</td>
              <td class="whole" data-label="Took">{{ took(step.started_at, step.ended_at) }}</td>
              <td class="small" data-label="Result">{{ step.detail ?? '–' }}</td>
            </tr>
          </tbody>
        </table>
        <dl class="facts small about">
          <dt>Run</dt><dd><code>{{ run.id }}</code></dd>
          <dt>Scheduled for</dt><dd>{{ instant(run.scheduled_for, run.window.time_zone) }}, {{ run.window.time_zone }}</dd>
          <dt>Cause</dt><dd>{{ run.cause === 'schedule' ? 'Schedule' : `Requested by ${run.requested_by ?? 'somebody'}` }}</dd>
          <template v-if="made?.length"><dt>Made with</dt><dd><template v-for="(one, index) in made" :key="one.kind + one.name">{{ index ? ', ' : '' }}<RouterLink :to="{ name: 'definition', params: { kind: one.kind, name: one.name } }">{{ one.kind }} {{ one.name }}</RouterLink> version {{ one.version }}</template></dd></template>
          <template v-if="run.released_by"><dt>Released by</dt><dd>{{ run.released_by }}</dd></template>
          <template v-if="run.skipped"><dt>Stands for</dt><dd>{{ run.skipped }} earlier instants that passed while no service ran</dd></template>
          <template v-for="snapshot in run.snapshots" :key="snapshot.id"><dt>Snapshot{{ run.snapshots.length > 1 ? `, ${forWhom.get(snapshot.id)}` : '' }}</dt><dd class="hash">SHA-256 {{ snapshot.sha256 }}</dd></template>
        </dl>
        <details v-if="isAuthor" class="log" @toggle="($event.target as HTMLDetailsElement).open && !log && readLog()">
          <summary>What the service’s log says</summary>
          <p v-if="log && !log.items.length" class="muted">The log says nothing of this run.</p>
          <table v-else-if="log" class="list folds">
            <thead><tr><th>At</th><th>Level</th><th>Line</th></tr></thead>
            <tbody>
              <tr v-for="(line, index) in log.items" :key="index">
                <td class="whole">{{ instant(line.at, run.window.time_zone, true) }}</td>
                <td data-label="Level">{{ line.level }}</td>
                <td class="small line">{{ line.text }}</td>
              </tr>
            </tbody>
          </table>
          <div v-if="log" class="row">
            <el-pagination v-if="log.total > log.size" v-model:current-page="logPage" size="small" layout="prev, pager, next, total" :total="log.total" :page-size="log.size" />
            <el-button v-if="!run.settled" size="small" @click="readLog">Read again</el-button>
          </div>
        </details>
      </section>
    </div>
  </Loading>
</template>

<style scoped>
.instead { margin: 0; display: grid; gap: 0.4rem; }
.instead img { max-width: min(100%, 44rem); border: 1px solid var(--line); border-radius: 8px; }
.crumbs { margin: 0.1rem 0; }
.when { margin: 0.15rem 0; }
.how { font-size: 1.15rem; }
.tabs { margin-bottom: 0.8rem; gap: 0.5rem; }
.tabs .el-button + .el-button { margin-left: 0; }
details { margin-top: 0.8rem; }
summary { cursor: pointer; color: var(--sea); }
.hash { font-family: ui-monospace, 'DejaVu Sans Mono', monospace; font-size: 0.76rem; overflow-wrap: anywhere; }
.about { margin-top: 1rem; }
.line { overflow-wrap: anywhere; }
.more { background: none; border: 0; padding: 0; color: var(--sea); cursor: pointer; text-decoration: underline; font: inherit; }
.attempts { margin: 0.4rem 0 0; padding-left: 1.1rem; }
.links { margin: 0.8rem 0 0; }
</style>
