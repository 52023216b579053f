<script setup lang="ts">
// Whether everything that the service needs is as it should be, what is wrong first.
import { computed } from 'vue'

import { api, take, type Schemas } from '../api/client'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { instant } from '../words'

const { data, error, load } = useLoaded(() => take(api.GET('/condition')))
const MARKS: Record<Schemas['Stands'], { mark: string; word: string; tone: string; rank: number }> = {
  problem: { mark: '◆', word: 'Problem', tone: 'critical', rank: 0 },
  warning: { mark: '▲', word: 'Warning', tone: 'warning', rank: 1 },
  ok: { mark: '●', word: 'As it should be', tone: 'ok', rank: 2 },
}
const findings = computed(() => [...(data.value?.findings ?? [])].sort((one, other) => MARKS[one.stands].rank - MARKS[other.stands].rank))
const count = (stands: Schemas['Stands']) => findings.value.filter((one) => one.stands === stands).length
const counted = (number: number, one: string) => `${number} ${one}${number === 1 ? '' : 's'}`
const sentence = computed(() => {
  const [problems, warnings] = [count('problem'), count('warning')]
  if (!problems && !warnings) return 'Everything is as it should be.'
  return `${[problems ? counted(problems, 'problem') : '', warnings ? counted(warnings, 'warning') : ''].filter(Boolean).join(' and ')}.`
})
async function again() {
  data.value = null
  await load()
}
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <div>
        <h1>Condition</h1>
        <p class="muted">What this service needs, and whether it has it. Nothing is sent or changed by looking.</p>
      </div>
      <el-button :loading="!data && !error" @click="again">Look again</el-button>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="again">
      <section v-if="data" class="card stack" aria-labelledby="found" aria-live="polite">
        <h2 id="found">{{ sentence }}</h2>
        <table class="list folds">
          <thead><tr><th>State</th><th>What</th><th>Found</th></tr></thead>
          <tbody>
            <tr v-for="(one, index) in findings" :key="index">
              <td class="whole" :class="MARKS[one.stands].tone"><span aria-hidden="true">{{ MARKS[one.stands].mark }}</span> {{ MARKS[one.stands].word }}</td>
              <td data-label="What">{{ one.what }}</td>
              <td data-label="Found">{{ one.words }}<div v-if="one.remedy" class="remedy">→ {{ one.remedy }}</div></td>
            </tr>
          </tbody>
        </table>
        <p class="muted small">Looked at {{ instant(data.looked_at) }}. Before a start, <code>maple-lark check --config FILE</code> looks at the same.</p>
      </section>
    </Loading>
  </div>
</template>

<style scoped>
p, h2 { margin: 0; }
.ok { color: var(--ok); font-weight: 600; }
.warning { color: var(--warning); font-weight: 600; }
.critical { color: var(--critical); font-weight: 600; }
.remedy { font-weight: 600; }
td { overflow-wrap: anywhere; }
</style>
