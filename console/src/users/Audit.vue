<script setup lang="ts">
// Who did what: filtered, exported, proved. For administrators.
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../api/base'
import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { instant } from '../words'
import { auditMark, auditQuery, type AuditFilter } from './words'

const SIZE = 50
const route = useRoute()
const router = useRouter()
const text = (key: string) => String(route.query[key] ?? '')
const filter = reactive<AuditFilter>({ user: text('user'), text: text('text'), outcome: text('outcome'), from: text('from'), to: text('to') })
const page = ref(1)
const query = computed(() => auditQuery(filter))
const { data, error, load } = useLoaded(() => take(api.GET('/audit', { params: { query: { ...query.value, page: page.value, size: SIZE } } })), 30_000)
// A view can be kept as a bookmark.
watch(query, async () => {
  page.value = 1
  await router.replace({ query: Object.fromEntries(Object.entries(filter).filter(([, value]) => value)) })
  await load()
})
const csv = computed(() => at(`/api/v1/audit.csv?${new URLSearchParams(query.value)}`))
const proof = ref<Schemas['AuditProof'] | null>(null)
const proving = ref(false)
async function prove() {
  proving.value = true
  proof.value = await take(api.GET('/audit/proof')).catch((refused) => (complain(refused), null))
  proving.value = false
}
const OUTCOMES = [
  { value: '', label: 'Any outcome' },
  { value: 'done', label: 'Done' },
  { value: 'refused', label: 'Refused' },
  { value: 'failed', label: 'Failed' },
]
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Audit trail</h1>
      <div class="row">
        <el-button :loading="proving" @click="prove">Verify</el-button>
        <a :href="csv" download="audit.csv"><el-button>Export as CSV</el-button></a>
      </div>
    </div>
    <section v-if="proof" class="card stack" aria-live="polite">
      <p v-if="proof.intact" class="ok"><strong>● The {{ proof.entries }} entries are what was kept.</strong></p>
      <p v-else class="critical"><strong>◆ Altered, put in, or with one missing before them: {{ proof.broken.join(', ') }}.</strong></p>
      <p class="muted">The last entry has the digest <code>{{ proof.head || '–' }}</code>. Note it: whoever has it finds out if the whole trail is written anew.</p>
    </section>
    <section class="card stack scroll">
      <form class="filters" aria-label="Filter" @submit.prevent="load">
        <el-input v-model.lazy="filter.user" clearable placeholder="User" aria-label="User" />
        <el-input v-model.lazy="filter.text" clearable placeholder="Words in what it was done to" aria-label="Words in what it was done to" />
        <el-select v-model="filter.outcome" :empty-values="[null, undefined]" aria-label="Outcome"><el-option v-for="one in OUTCOMES" :key="one.value" :value="one.value" :label="one.label" /></el-select>
        <el-date-picker v-model="filter.from" type="date" value-format="YYYY-MM-DD" placeholder="From" aria-label="From" />
        <el-date-picker v-model="filter.to" type="date" value-format="YYYY-MM-DD" placeholder="To, and with it" aria-label="To, and with it" />
      </form>
      <Loading :error="data ? null : error" :ready="data !== null" @again="load">
        <p v-if="!data?.items.length" class="muted">Nothing that fits is on record.</p>
        <table v-else class="list folds">
          <thead><tr><th>When</th><th>User</th><th>What</th><th>About</th><th>From</th></tr></thead>
          <tbody>
            <tr v-for="one in data.items" :key="one.id">
              <td class="whole">{{ instant(one.at) }}</td>
              <td data-label="User"><strong>{{ one.user ?? 'nobody signed in' }}</strong></td>
              <td data-label="What"><span :class="auditMark(one.outcome).tone">{{ auditMark(one.outcome).mark }} {{ one.words }}</span><span v-if="one.outcome !== 'done'" class="muted">, {{ one.outcome }}</span></td>
              <td data-label="About" class="about">{{ one.subject }}<div v-if="one.detail" class="muted small">{{ one.detail }}</div></td>
              <td data-label="From">{{ one.address ?? '–' }}</td>
            </tr>
          </tbody>
        </table>
        <el-pagination v-if="data && data.total > SIZE" v-model:current-page="page" layout="prev, pager, next, total" :page-size="SIZE" :total="data.total" @current-change="load" />
      </Loading>
    </section>
  </div>
</template>

<style scoped>
.filters { display: grid; grid-template-columns: 9rem minmax(10rem, 1fr) 9rem 10rem 10rem; gap: 0.6rem; }
.filters :deep(.el-date-editor) { width: 100%; }
.about { overflow-wrap: anywhere; max-width: 26rem; }
p { margin: 0; }
code { overflow-wrap: anywhere; }
.ok { color: var(--ok); }
.critical { color: var(--critical); }
.warning { color: var(--warning); font-weight: 600; }
@media (max-width: 60rem) { .filters { grid-template-columns: 1fr 1fr; } }
</style>
