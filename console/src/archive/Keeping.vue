<script setup lang="ts">
// How long what was made is kept, what goes next, what is kept for good and what went. For administrators.
import { ElMessage, ElMessageBox } from 'element-plus'
import { computed, ref, watch } from 'vue'

import { api, take } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { instant, size } from '../words'
import { fieldsOf, goingWords, policyOf, WHY, type Fields } from './keeping'

const SIZE = 20
const days = ref(7)
const page = ref(1)
const { data, error, load } = useLoaded(() => take(api.GET('/keeping')))
const { data: going, load: lookAhead } = useLoaded(() => take(api.GET('/keeping/going', { params: { query: { days: days.value } } })))
const { data: kept } = useLoaded(() => take(api.GET('/keeping/kept', { params: { query: { size: 200 } } })))
const { data: gone, load: loadGone } = useLoaded(() => take(api.GET('/keeping/gone', { params: { query: { page: page.value, size: SIZE } } })))
watch(days, lookAhead)
const fields = ref<Fields>(fieldsOf({}))
const was = ref('')
watch(data, (now) => {
  if (!now || JSON.stringify(policyOf(fields.value)) !== (was.value || '{}')) return
  fields.value = fieldsOf(now.policy)
  was.value = JSON.stringify(policyOf(fields.value))
})
const changed = computed(() => JSON.stringify(policyOf(fields.value)) !== (was.value || '{}'))
const shown = computed(() => (going.value?.items ?? []).slice(0, SIZE))

const problem = ref('')
const busy = ref(false)
async function set() {
  busy.value = true
  problem.value = ''
  try {
    const policy = policyOf(fields.value)
    const plan = await take(api.POST('/keeping/plan', { body: policy }))
    const words = plan.items.length ? `At once these go, and cannot be got back: ${goingWords(plan)}.` : 'Nothing goes at once.'
    const sure = await ElMessageBox.confirm(words, 'Set how long things are kept?', { confirmButtonText: 'Set it', cancelButtonText: 'Cancel', type: plan.items.length ? 'warning' : 'info' }).then(() => true, () => false)
    if (!sure) return
    await take(api.PUT('/keeping', { body: policy }))
    was.value = JSON.stringify(policy)
    ElMessage({ type: 'success', message: 'How long things are kept is set.', offset: 72 })
    await Promise.all([load(), lookAhead(), loadGone()])
  } catch (refused) {
    problem.value = refused instanceof Error ? refused.message : String(refused)
  } finally {
    busy.value = false
  }
}
async function release(run: string) {
  const sure = await ElMessageBox.confirm('It goes with the others then, once it is old enough.', 'Keep this run no longer than others?', { confirmButtonText: 'Keep no longer', cancelButtonText: 'Cancel' }).then(() => true, () => false)
  if (!sure) return
  await take(api.DELETE('/runs/{id}/keep', { params: { path: { id: run } } })).then(() => (kept.value && (kept.value.items = kept.value.items.filter((one) => one.run !== run)), lookAhead()), complain)
}
</script>

<template>
  <div class="stack">
    <p class="small crumbs"><RouterLink :to="{ name: 'archive' }">Archive</RouterLink> / Kept how long</p>
    <h1>Kept how long</h1>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <section v-if="data" class="card stack" aria-labelledby="terms">
        <h2 id="terms">Terms</h2>
        <p class="muted">Counted from the end of each run. Documents go first, then the snapshots that they could be made of again, then the records of runs. What is empty is kept for good.</p>
        <form class="terms" @submit.prevent="set">
          <label>Documents<el-input v-model="fields.documents" placeholder="for good" aria-label="Documents" /></label>
          <label>Snapshots<el-input v-model="fields.snapshots" placeholder="for good" aria-label="Snapshots" /></label>
          <label>Records of runs<el-input v-model="fields.records" placeholder="for good" aria-label="Records of runs" /></label>
          <label>Nothing goes before<el-input v-model="fields.at_least" placeholder="its term" aria-label="Nothing goes before" /></label>
          <label>Documents of at most<span class="unit"><el-input-number v-model="fields.most_runs" :min="1" :controls="false" placeholder="all" aria-label="Documents of at most, in runs of each report" /> runs of each report</span></label>
          <label>All together at most<span class="unit"><el-input-number v-model="fields.most_megabytes" :min="1" :controls="false" placeholder="any" aria-label="All together at most, in megabytes" /> MB</span></label>
        </form>
        <p class="muted small">Write lengths as “2 years”, “90 days” or as ISO 8601 has them, such as P18M.</p>
        <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
        <div class="row spread">
          <p class="muted small">{{ data.set_by ? `Set by ${data.set_by}, ${instant(data.set_at)}.` : 'Nobody has set anything: everything is kept for good.' }} {{ data.with_documents.toLocaleString('en') }} of {{ data.runs.toLocaleString('en') }} runs that are over have their documents: {{ size(data.document_bytes) }}, and {{ size(data.snapshot_bytes) }} of snapshots.</p>
          <el-button type="primary" :loading="busy" :disabled="!changed" @click="set">Set …</el-button>
        </div>
        <template v-if="data.reports.length">
          <h3>Reports that say something of their own</h3>
          <ul class="plain"><li v-for="one in data.reports" :key="one.report"><RouterLink :to="{ name: 'report', params: { name: one.report } }">{{ one.title }}</RouterLink>: {{ one.words }}</li></ul>
        </template>
      </section>

      <section class="card stack scroll" aria-labelledby="next">
        <div class="row spread">
          <h2 id="next">What goes next</h2>
          <el-radio-group v-model="days" size="small" aria-label="Within"><el-radio-button :value="7">7 days</el-radio-button><el-radio-button :value="30">30 days</el-radio-button><el-radio-button :value="365">a year</el-radio-button></el-radio-group>
        </div>
        <p v-if="going" class="muted" role="status">{{ going.items.length ? `Until ${instant(going.until)}: ${goingWords(going)}.` : `Nothing goes until ${instant(going.until)}.` }}</p>
        <table v-if="shown.length" class="list folds">
          <thead><tr><th>Run</th><th>Ended</th><th>What</th><th>Why</th><th class="number">Size</th></tr></thead>
          <tbody>
            <tr v-for="one in shown" :key="one.run">
              <td><RouterLink :to="{ name: 'run', params: { id: one.run } }">{{ one.report }}</RouterLink></td>
              <td data-label="Ended" class="whole">{{ instant(one.ended_at) }}</td>
              <td data-label="What">{{ one.what }}</td>
              <td data-label="Why">{{ WHY[one.why] }}</td>
              <td data-label="Size" class="number">{{ one.what === 'record' ? '–' : size(one.bytes) }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="going && going.items.length > SIZE" class="muted small">The first {{ SIZE }} of {{ going.more ? 'more than ' : '' }}{{ going.items.length }}; <code>maple-lark keeping due</code> lists them.</p>
      </section>

      <section class="card stack scroll" aria-labelledby="kept">
        <h2 id="kept">Kept for good</h2>
        <p v-if="!kept?.items.length" class="muted">No run is. On a run’s page, “Keep for good” keeps it, whatever the terms say.</p>
        <table v-else class="list folds">
          <thead><tr><th>Run</th><th>Since</th><th>By</th><th>Because</th><td></td></tr></thead>
          <tbody>
            <tr v-for="one in kept.items" :key="one.run">
              <td><RouterLink :to="{ name: 'run', params: { id: one.run } }">{{ one.report }}</RouterLink></td>
              <td data-label="Since" class="whole">{{ instant(one.at) }}</td>
              <td data-label="By">{{ one.by }}</td>
              <td data-label="Because">{{ one.because }}</td>
              <td><el-button size="small" @click="release(one.run)">Keep no longer …</el-button></td>
            </tr>
          </tbody>
        </table>
      </section>

      <section class="card stack scroll" aria-labelledby="gone">
        <h2 id="gone">What went</h2>
        <p v-if="!gone?.items.length" class="muted">Nothing yet.</p>
        <table v-else class="list folds">
          <thead><tr><th>Report</th><th>Went</th><th>Run ended</th><th>What</th><th>Why</th><th class="number">Size</th></tr></thead>
          <tbody>
            <tr v-for="one in gone.items" :key="one.run + one.what">
              <td>{{ one.title }}</td>
              <td data-label="Went" class="whole">{{ instant(one.at) }}</td>
              <td data-label="Run ended" class="whole">{{ instant(one.ended_at) }}</td>
              <td data-label="What"><details v-if="one.files.length"><summary>{{ one.files.length }} document{{ one.files.length === 1 ? '' : 's' }}</summary><ul class="plain small"><li v-for="file in one.files" :key="file.sha256">{{ file.name }} <span class="muted hash">SHA-256 {{ file.sha256 }}</span></li></ul></details><template v-else>{{ one.what }}</template></td>
              <td data-label="Why">{{ WHY[one.why as keyof typeof WHY] ?? one.why }}</td>
              <td data-label="Size" class="number">{{ one.what === 'record' ? '–' : size(one.bytes) }}</td>
            </tr>
          </tbody>
        </table>
        <el-pagination v-if="gone && gone.total > SIZE" v-model:current-page="page" layout="prev, pager, next, total" :page-size="SIZE" :total="gone.total" @current-change="loadGone" />
      </section>
    </Loading>
  </div>
</template>

<style scoped>
.terms { display: grid; grid-template-columns: repeat(3, minmax(0, 1fr)); gap: 0.8rem; }
@media (max-width: 46rem) { .terms { grid-template-columns: 1fr; } }
.terms label { display: grid; gap: 0.25rem; font-weight: 600; }
.unit { display: flex; align-items: center; gap: 0.5rem; font-weight: 400; }
.unit :deep(.el-input-number) { width: 7rem; flex: none; }
.unit :deep(.el-input__inner) { text-align: left; }
.plain { list-style: none; margin: 0; padding: 0; }
.hash { overflow-wrap: anywhere; }
.number { text-align: right; }
p, h3 { margin: 0; }
h3 { font-size: 1rem; }
</style>
