<script setup lang="ts">
import { computed, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, take } from '../api/client'
import Loading from '../parts/Loading.vue'
import RunTable from '../parts/RunTable.vue'
import { useLoaded } from '../parts/load'
import { runStateValues } from '../api/schema'
import { stateWords } from '../words'

const route = useRoute()
const router = useRouter()
const states = runStateValues
const stateOf = (value: unknown) => states.find((state) => state === value)
const text = (value: unknown) => (typeof value === 'string' && value ? value : undefined)
const filter = computed(() => ({ report: text(route.query.report), state: stateOf(route.query.state), page: Number(route.query.page ?? 1) || 1, size: 25 }))
const { data, error, load } = useLoaded(() => take(api.GET('/runs', { params: { query: filter.value } })), 5000)
const reports = useLoaded(() => take(api.GET('/report-names')))
watch(filter, load)

function choose(change: Record<string, string | number | undefined>) {
  void router.push({ query: { ...route.query, page: undefined, ...change } })
}
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Runs</h1>
      <div class="row">
        <el-select :model-value="filter.report" placeholder="All reports" clearable aria-label="Report" style="width: 15rem" @change="(report?: string) => choose({ report })">
          <el-option v-for="report in reports.data.value ?? []" :key="report.name" :value="report.name" :label="report.title" />
        </el-select>
        <el-select :model-value="filter.state" placeholder="All states" clearable aria-label="State" style="width: 11rem" @change="(state?: string) => choose({ state })">
          <el-option v-for="state in states" :key="state" :value="state" :label="stateWords(state).word" />
        </el-select>
      </div>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <div v-if="data" class="card scroll">
        <RunTable :runs="data.items" :with-title="true" />
        <el-pagination v-if="data.total > data.size" layout="prev, pager, next" :total="data.total" :page-size="data.size" :current-page="data.page" @current-change="(page: number) => choose({ page })" />
      </div>
    </Loading>
  </div>
</template>
