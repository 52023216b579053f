<script setup lang="ts">
import type { RunSummary } from '../api/client'
import { instant, took } from '../words'
import ContentMark from './ContentMark.vue'
import StateMark from './StateMark.vue'

defineProps<{ runs: RunSummary[]; withTitle: boolean }>()
</script>

<template>
  <p v-if="!runs.length" class="muted">There are no such runs.</p>
  <table v-else class="list folds">
    <thead>
      <tr><th>State</th><th v-if="withTitle">Report</th><th>Window</th><th>Begun</th><th>Took</th><th>Why</th></tr>
    </thead>
    <tbody>
      <tr v-for="run in runs" :key="run.id">
        <td class="whole"><RouterLink class="plain" :to="{ name: 'run', params: { id: run.id } }"><StateMark :state="run.state" /></RouterLink> <ContentMark :status="run.status" /></td>
        <td v-if="withTitle"><RouterLink :to="{ name: 'report', params: { name: run.report } }">{{ run.title }}</RouterLink></td>
        <td><RouterLink :to="{ name: 'run', params: { id: run.id } }">{{ run.window.label }}</RouterLink><div v-if="run.problem" class="small" :class="run.good ? 'muted' : 'problem'">{{ run.problem }}</div></td>
        <td class="whole" data-label="Begun">{{ instant(run.created_at, run.window.time_zone) }}</td>
        <td class="whole" data-label="Took">{{ took(run.started_at, run.finished_at) }}</td>
        <td class="muted small" data-label="Why">{{ run.cause === 'schedule' ? 'On schedule' : `Asked for by ${run.requested_by ?? 'somebody'}` }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.problem { color: var(--critical); }
.plain { text-decoration: none; }
.plain:hover { text-decoration: underline; }
</style>
