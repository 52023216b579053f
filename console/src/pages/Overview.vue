<script setup lang="ts">
import { onUnmounted, ref } from 'vue'

import { api, take } from '../api/client'
import FirstSteps from '../parts/FirstSteps.vue'
import Loading from '../parts/Loading.vue'
import ContentMark from '../parts/ContentMark.vue'
import StateMark from '../parts/StateMark.vue'
import { useLoaded } from '../parts/load'
import { isAuthor } from '../session'
import { away, instant } from '../words'

const { data, error, load } = useLoaded(() => take(api.GET('/overview')), 3000)
// Where there is no report yet, the first steps say what to do.
const { data: reports } = useLoaded(() => take(api.GET('/report-names')))
const { data: sources } = useLoaded(() => take(api.GET('/sources')))
const now = ref(Date.now())
const timer = setInterval(() => (now.value = Date.now()), 1000)
onUnmounted(() => clearInterval(timer))
</script>

<template>
  <Loading :error="data ? null : error" :ready="data !== null" @again="load">
    <div v-if="data" class="stack">
      <section class="verdict" :class="data.status" aria-live="polite">
        <span class="mark" aria-hidden="true">{{ { ok: '●', warning: '▲', critical: '◆' }[data.status] ?? '◆' }}</span>
        <h1>{{ data.sentence }}</h1>
      </section>
      <FirstSteps v-if="reports && !reports.length && isAuthor" :sources="sources?.length ?? 0" />
      <section v-if="data.attention.length" class="card" aria-labelledby="attention">
        <h2 id="attention">Needs attention</h2>
        <table class="list folds">
          <tbody>
            <tr v-for="run in data.attention" :key="run.id">
              <td class="whole"><StateMark :state="run.state" /> <ContentMark :status="run.status" /></td>
              <td>
                <RouterLink :to="{ name: 'run', params: { id: run.id } }">{{ run.title }}</RouterLink>
                <div class="small">{{ run.problem ?? (run.approval_deadline ? `It waits until ${instant(run.approval_deadline, run.window.time_zone)}.` : '') }}</div>
              </td>
              <td class="muted small">{{ run.window.label }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <div class="columns">
        <section class="card" aria-labelledby="next">
          <h2 id="next">Next</h2>
          <p v-if="!data.next.length" class="muted">No report has a schedule that is not paused.</p>
          <ol v-else class="next">
            <li v-for="run in data.next" :key="run.report">
              <div>
                <RouterLink :to="{ name: 'report', params: { name: run.report } }">{{ run.title }}</RouterLink>
                <div class="muted small">{{ run.schedule }}, {{ run.time_zone }}</div>
              </div>
              <div class="when">
                <strong>{{ away(run.at, now) }}</strong>
                <div class="muted small">{{ instant(run.at, run.time_zone) }}</div>
              </div>
            </li>
          </ol>
        </section>
        <section class="card" aria-labelledby="recent">
          <h2 id="recent">Latest runs</h2>
          <p v-if="!data.recent.length" class="muted">Nothing has run yet.</p>
          <table v-else class="list">
            <tbody>
              <tr v-for="run in data.recent" :key="run.id">
                <td>
                  <RouterLink :to="{ name: 'run', params: { id: run.id } }">{{ run.title }}</RouterLink>
                  <div class="muted small">{{ run.window.label }}</div>
                </td>
                <td class="whole right">
                  <StateMark :state="run.state" /> <ContentMark :status="run.status" />
                  <div class="muted small">{{ away(run.created_at, now) }}</div>
                </td>
              </tr>
            </tbody>
          </table>
          <p class="small more"><RouterLink to="/runs">All runs</RouterLink></p>
        </section>
      </div>
    </div>
  </Loading>
</template>

<style scoped>
.verdict { display: flex; gap: 1rem; align-items: center; border-radius: 10px; padding: 1.3rem 1.5rem; background: #e5f2eb; color: #14492f; }
.verdict.warning { background: #fdf0dc; color: #6b3d00; }
.verdict.critical { background: #fbe6e8; color: #8a1522; }
html.dark .verdict { background: #16362a; color: #a8e3c6; }
html.dark .verdict.warning { background: #3d2b10; color: #ffd9a0; }
html.dark .verdict.critical { background: #471b22; color: #ffc4ca; }
.verdict .mark { font-size: 1.6rem; }
.next { list-style: none; margin: 0; padding: 0; }
.next li { display: flex; justify-content: space-between; gap: 1rem; padding: 0.55rem 0; border-bottom: 1px solid var(--line); }
.next li:last-child { border: 0; }
.when, .right { text-align: right; }
.when { white-space: nowrap; }
@media (max-width: 760px) { .verdict { padding: 1rem; gap: 0.7rem; } .verdict h1 { font-size: 1.15rem; } }
table.list td.right { padding-right: 0; }
.more { margin: 0.6rem 0 0; }
</style>
