<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, take, type Schemas } from '../api/client'
import Loading from '../parts/Loading.vue'
import Parameters from '../parts/Parameters.vue'
import Preview from '../parts/Preview.vue'
import Blocks from '../dashboards/Blocks.vue'
import { WINDOWS, windowKeys } from '../dashboards/windows'
import { useLoaded } from '../parts/load'
import Publish from '../published/Publish.vue'
import { isAuthor } from '../session'
import MakeTemplate from '../templates/MakeTemplate.vue'

const route = useRoute()
const router = useRouter()
const name = computed(() => String(route.params.name))
const { data, error, load } = useLoaded(() => take(api.GET('/dashboards')))
const dashboard = computed(() => data.value?.find((one) => one.name === name.value) ?? null)

const own = Intl.DateTimeFormat().resolvedOptions().timeZone
const zones = computed(() => ['UTC', ...Intl.supportedValuesOf('timeZone')])
const window_ = ref('day')
const days = ref<[string, string] | null>(null)
const zone = ref(own)
const values = ref<Record<string, unknown>>({})
// A report that shows the dashboard knows best in which zone its readers are.
const reports = useLoaded(() => take(api.GET('/report-names')))
watch([reports.data, dashboard], ([found, shown]) => {
  const used = found?.find((report) => shown?.used_by.includes(report.name))
  if (used) zone.value = used.time_zone
})
const order = computed<Schemas['PreviewOrder']>(() => {
  return { dashboard: name.value, time_zone: zone.value, window: windowKeys(window_.value, days.value), values: values.value }
})
/** Raised to ask the sources anew. */
const asked = ref(0)
/** Parameters that need a value; not known before they were asked for. */
const missing = ref<string[] | null>(null)
watch(name, () => (missing.value = null))
const still = computed(() => [...(window_.value === 'between' && !days.value ? ['the days'] : []), ...(missing.value ?? [])])
const ready = computed(() => !still.value.length && (missing.value !== null || !dashboard.value?.parameters.length))
</script>

<template>
  <Loading :error="data ? null : error" :ready="data !== null" @again="load">
    <p v-if="!dashboard" class="card">There is no dashboard “{{ name }}”. <RouterLink to="/dashboards">All dashboards</RouterLink></p>
    <div v-else class="stack">
      <div class="row spread">
        <div>
          <p class="small crumbs"><RouterLink to="/dashboards">Dashboards</RouterLink></p>
          <h1>{{ dashboard.title }}</h1>
          <p v-if="dashboard.summary" class="muted">{{ dashboard.summary }}</p>
        </div>
        <div class="row">
          <Publish v-if="isAuthor" :subject="order as never" :title="dashboard.title" />
          <MakeTemplate v-if="isAuthor" :dashboard="name" :title="dashboard.title" />
          <el-button v-if="isAuthor" size="small" @click="router.push({ name: 'new', params: { kind: 'report' }, query: { dashboard: name } })">Make a report of this</el-button>
          <el-button v-if="isAuthor" size="small" @click="router.push({ name: 'edit-dashboard', params: { name } })">Edit</el-button>
        </div>
      </div>
      <p v-if="!isAuthor" class="card">Authors see it with figures of this moment. What was made of it for you is under <RouterLink to="/archive">Archive</RouterLink> and in the runs of its reports<template v-if="dashboard.used_by.length">: <template v-for="(one, index) in dashboard.used_by" :key="one">{{ index ? ', ' : '' }}<RouterLink :to="{ name: 'report', params: { name: one } }">{{ one }}</RouterLink></template></template>.</p>
      <template v-else>
        <section class="card stack" aria-label="What to show">
          <div class="asked">
            <label><span class="small">Window</span><el-select v-model="window_" aria-label="Window"><el-option v-for="one in WINDOWS" :key="one.value" :value="one.value" :label="one.label" /></el-select></label>
            <label v-if="window_ === 'between'"><span class="small">From and to <span class="muted">the second day is not part of it</span></span><el-date-picker v-model="days" type="daterange" value-format="YYYY-MM-DD" start-placeholder="From" end-placeholder="To" :clearable="false" /></label>
            <label><span class="small">Time zone</span><el-select v-model="zone" filterable aria-label="Time zone"><el-option v-for="one in zones" :key="one" :value="one" :label="one === own ? `${one} (yours)` : one" /></el-select></label>
            <div class="row end"><el-button @click="asked += 1">Refresh</el-button></div>
          </div>
          <Parameters v-if="dashboard.parameters.length" :key="name" :dashboard="name" @chosen="values = $event" @missing="missing = $event" />
        </section>
        <p v-if="still.length" class="card muted" role="status">Still to be given: {{ still.join(', ') }}.</p>
        <div v-if="ready" class="stack"><Blocks :key="name" class="card" :sections="dashboard.layout" :title="dashboard.title" :order="order" :asked="asked" /></div>
        <p v-if="!dashboard.layout.length" class="card muted">Nothing stands on it yet. <RouterLink :to="{ name: 'edit-dashboard', params: { name } }">Add something</RouterLink></p>
        <details class="card">
          <summary>As a document</summary>
          <Preview :key="name" :order="order" />
        </details>
      </template>
    </div>
  </Loading>
</template>

<style scoped>
.crumbs, p { margin: 0; }
.asked { display: grid; grid-template-columns: repeat(auto-fill, minmax(14rem, 1fr)); gap: 0.9rem; }
label { display: grid; gap: 0.3rem; }
.end { align-items: end; }
summary { cursor: pointer; color: var(--sea); }
details[open] summary { margin-bottom: 0.9rem; }
</style>
