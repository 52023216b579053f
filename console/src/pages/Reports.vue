<script setup lang="ts">
import { api, take } from '../api/client'
import Loading from '../parts/Loading.vue'
import RunNow from '../parts/RunNow.vue'
import StateMark from '../parts/StateMark.vue'
import { useLoaded } from '../parts/load'
import { user } from '../session'
import { instant } from '../words'

const { data, error, load } = useLoaded(() => take(api.GET('/reports')), 5000)
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Reports</h1>
      <div v-if="user?.role !== 'viewer'" class="row">
        <RouterLink to="/templates"><el-button type="primary" plain tabindex="-1">New from ready-made</el-button></RouterLink>
        <RouterLink :to="{ name: 'new', params: { kind: 'report' } }"><el-button tabindex="-1">New report</el-button></RouterLink>
      </div>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <div v-if="data && !data.length" class="card stack">
        <h2>There are no reports yet</h2>
        <p>Begin with something ready-made: pick a question, choose a source, look at it with your own data, and have it sent.</p>
        <div><RouterLink to="/templates"><el-button type="primary" tabindex="-1">Ready-made reports</el-button></RouterLink></div>
        <p class="muted small">Or write one as a TOML file and run <code>maple-lark apply FOLDER</code>.</p>
      </div>
      <div v-else-if="data" class="card scroll">
        <table class="list folds">
          <thead>
            <tr><th>Report</th><th>Schedule and window</th><th>Last run</th><th>Next run</th><th><span class="muted">Actions</span></th></tr>
          </thead>
          <tbody>
            <tr v-for="report in data" :key="report.name">
              <td>
                <RouterLink :to="{ name: 'report', params: { name: report.name } }"><strong>{{ report.title }}</strong></RouterLink>
                <div class="muted small">{{ report.formats.join(', ').toUpperCase() }} to {{ [...report.audiences.map((one) => one.name), ...report.audiences_from.map(() => 'everybody a query names')].join(', ') || 'nobody' }}</div>
              </td>
              <td data-label="Schedule">{{ report.schedule ?? 'On request' }}<div class="muted small">{{ report.window }}, {{ report.time_zone }}</div></td>
              <td data-label="Last run">
                <template v-if="report.last_run">
                  <RouterLink class="plain" :to="{ name: 'run', params: { id: report.last_run.id } }"><StateMark :state="report.last_run.state" /></RouterLink>
                  <div class="muted small">{{ instant(report.last_run.created_at, report.time_zone) }}</div>
                </template>
                <span v-else class="muted">Never</span>
              </td>
              <td data-label="Next run" class="whole"><StateMark v-if="report.paused" state="paused" /><template v-else>{{ instant(report.next, report.time_zone) }}</template></td>
              <td><RunNow :report="report" @changed="load" /></td>
            </tr>
          </tbody>
        </table>
      </div>
    </Loading>
  </div>
</template>

<style scoped>
.plain { text-decoration: none; }
.plain:hover { text-decoration: underline; }
</style>
