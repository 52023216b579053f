<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, take } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import Preview from '../parts/Preview.vue'
import RunNow from '../parts/RunNow.vue'
import RunTable from '../parts/RunTable.vue'
import ContentMark from '../parts/ContentMark.vue'
import StateMark from '../parts/StateMark.vue'
import { useLoaded } from '../parts/load'
import Sentence from '../reports/Sentence.vue'
import { isAuthor } from '../session'
import { instant } from '../words'

const route = useRoute()
const name = computed(() => String(route.params.name))
const { data, error, load } = useLoaded(() => take(api.GET('/reports/{name}', { params: { path: { name: name.value } } })), 5000)
const runs = useLoaded(() => take(api.GET('/runs', { params: { query: { report: name.value, size: 10 } } })), 5000)
const layout = useLoaded(() => take(api.GET('/reports/{name}/layout', { params: { path: { name: name.value } } })))
const router = useRouter()
const busy = ref(false)
// Audiences whose values differ see different things.
const audience = ref('')
const order = computed(() => ({ report: name.value, ...(audience.value ? { audience: audience.value } : {}) }))

async function turn(paused: boolean) {
  busy.value = true
  try {
    const path = paused ? '/reports/{name}/pause' : '/reports/{name}/resume'
    data.value = await take(api.POST(path, { params: { path: { name: name.value } } }))
  } catch (problem) {
    complain(problem)
  } finally {
    busy.value = false
  }
}

async function copy() {
  const answer = await ElMessageBox.prompt('The copy begins paused. What is it called? Use small letters, digits and hyphens.', 'Copy this report', { inputValue: `${name.value}-copy`, confirmButtonText: 'Copy', cancelButtonText: 'Cancel' }).catch(() => null)
  if (!answer) return
  try {
    const made = await take(api.POST('/reports/{name}/copy', { params: { path: { name: name.value } }, body: { name: answer.value } }))
    await router.push({ name: 'report', params: { name: made.name } })
  } catch (problem) {
    complain(problem)
  }
}

async function remove() {
  const sure = await ElMessageBox.confirm(`The report "${data.value?.title}" goes with its schedule and its definition. Runs and documents that were made stay.`, 'Remove this report?', { confirmButtonText: 'Remove', cancelButtonText: 'Cancel', type: 'warning' }).catch(() => null)
  if (!sure) return
  try {
    await take(api.DELETE('/definitions/{kind}/{name}', { params: { path: { kind: 'report', name: name.value } } }))
    await router.push({ name: 'reports' })
  } catch (problem) {
    complain(problem)
  }
}

watch(name, () => {
  data.value = null
  audience.value = ''
  changed()
})

function changed() {
  void load()
  void runs.load()
  void layout.load()
}
</script>

<template>
  <Loading :error="data ? null : error" :ready="data !== null" @again="load">
    <div v-if="data" class="stack">
      <div class="row spread">
        <div>
          <p class="small crumbs"><RouterLink to="/reports">Reports</RouterLink></p>
          <h1>{{ data.title }}</h1>
        </div>
        <div class="row actions">
          <template v-if="isAuthor">
            <el-button size="small" @click="router.push({ name: 'schedule', params: { name } })">Schedule</el-button>
            <el-button size="small" @click="router.push({ name: 'form', params: { kind: 'report', name } })">Edit</el-button>
            <el-button size="small" @click="copy">Copy</el-button>
            <el-button size="small" @click="remove">Remove</el-button>
          </template>
          <el-button v-if="isAuthor && data.schedule" size="small" :loading="busy" @click="turn(!data.paused)">{{ data.paused ? 'Resume' : 'Pause' }}</el-button>
          <RunNow v-if="isAuthor" :report="data" @changed="changed" />
        </div>
      </div>
      <Sentence :key="name" :report="data" :may="isAuthor" @changed="changed" />
      <div class="columns">
        <section class="card" aria-labelledby="when">
          <h2 id="when">When</h2>
          <dl class="facts">
            <dt>Schedule</dt><dd>{{ data.schedule ?? 'On request only' }}</dd>
            <dt>Time zone</dt><dd>{{ data.time_zone }}</dd>
            <dt>Window</dt><dd>{{ data.window }}</dd>
            <dt>Next run</dt>
            <dd><StateMark v-if="data.paused" state="paused" /><template v-else>{{ instant(data.next, data.time_zone) }}<span v-if="data.next_window" class="muted">, for {{ data.next_window }}</span></template></dd>
            <dt>Last run</dt>
            <dd><template v-if="data.last_run"><StateMark :state="data.last_run.state" /> <ContentMark :status="data.last_run.status" /> <span class="muted">{{ instant(data.last_run.created_at, data.time_zone) }}</span></template><template v-else>Never</template></dd>
          </dl>
        </section>
        <section class="card" aria-labelledby="what">
          <h2 id="what">What and to whom</h2>
          <dl class="facts">
            <dt>Dashboards</dt><dd>{{ data.dashboards.join(', ') }}</dd>
            <dt>Formats</dt><dd>{{ data.formats.join(', ').toUpperCase() }}</dd>
            <template v-for="audience in data.audiences" :key="audience.name">
              <dt>{{ audience.name }}</dt>
              <dd>{{ audience.recipients.join(', ') }}<div v-if="audience.values.length" class="muted small">{{ audience.values.join(' · ') }}</div></dd>
            </template>
            <template v-for="source in data.audiences_from" :key="source"><dt>Audiences</dt><dd>One for each row of a query to {{ source }}</dd></template>
            <dt>Owner</dt><dd>{{ data.owner ?? '–' }}</dd>
            <dt>File</dt><dd><code>{{ data.file }}</code></dd>
          </dl>
        </section>
      </div>
      <section v-if="isAuthor" class="card stack" aria-labelledby="preview">
        <div class="row spread">
          <h2 id="preview">What it would show now</h2>
          <el-select v-if="data.audiences.some((one) => one.values.length)" v-model="audience" class="whose" placeholder="For whom" aria-label="The audience whose values are shown" clearable>
            <el-option v-for="one in data.audiences" :key="one.name" :value="one.name" :label="one.name" />
          </el-select>
        </div>
        <Preview :key="name + audience" :order="order" :asks="data.audiences_from.length > 0" :layout="layout.data.value" />
      </section>
      <section class="card scroll" aria-labelledby="history">
        <h2 id="history">History</h2>
        <RunTable :runs="runs.data.value?.items ?? []" :with-title="false" />
        <p v-if="(runs.data.value?.total ?? 0) > 10" class="small"><RouterLink :to="{ name: 'runs', query: { report: data.name } }">All {{ runs.data.value?.total }} runs</RouterLink></p>
      </section>
    </div>
  </Loading>
</template>

<style scoped>
.crumbs, h2 { margin: 0; }
.whose { width: 16rem; }
.actions { gap: 0.4rem; align-items: start; }
.actions .el-button { margin: 0; }
</style>
