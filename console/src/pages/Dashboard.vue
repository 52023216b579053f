<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, take, type Schemas } from '../api/client'
import Loading from '../parts/Loading.vue'
import Parameters from '../parts/Parameters.vue'
import Preview from '../parts/Preview.vue'
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
          <el-button v-if="isAuthor" size="small" @click="router.push({ name: 'edit-dashboard', params: { name } })">Edit</el-button>
        </div>
      </div>
      <section class="card stack" aria-label="What to show">
        <div class="asked">
          <label><span class="small">Window</span><el-select v-model="window_" aria-label="Window"><el-option v-for="one in WINDOWS" :key="one.value" :value="one.value" :label="one.label" /></el-select></label>
          <label v-if="window_ === 'between'"><span class="small">From and to <span class="muted">the second day is not part of it</span></span><el-date-picker v-model="days" type="daterange" value-format="YYYY-MM-DD" start-placeholder="From" end-placeholder="To" :clearable="false" /></label>
          <label><span class="small">Time zone</span><el-select v-model="zone" filterable aria-label="Time zone"><el-option v-for="one in zones" :key="one" :value="one" :label="one === own ? `${one} (yours)` : one" /></el-select></label>
        </div>
        <Parameters v-if="dashboard.parameters.length" :key="name" :dashboard="name" @chosen="values = $event" />
      </section>
      <section class="card" aria-label="The dashboard"><Preview :key="name" :order="order" /></section>
    </div>
  </Loading>
</template>

<style scoped>
.crumbs, p { margin: 0; }
.asked { display: grid; grid-template-columns: repeat(auto-fill, minmax(14rem, 1fr)); gap: 0.9rem; }
label { display: grid; gap: 0.3rem; }
</style>
