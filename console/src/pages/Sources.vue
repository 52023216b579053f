<script setup lang="ts">
import { reactive } from 'vue'

import { api, take, type Schemas } from '../api/client'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { isAuthor, mayChange } from '../session'
import { sourceKind } from '../forms/sources'

const { data, error, load } = useLoaded(() => take(api.GET('/sources')))
const { data: samplers } = useLoaded(() => take(api.GET('/samplers')), 30_000)
const length = (seconds: number) => (seconds % 3600 === 0 ? `${seconds / 3600} h` : seconds % 60 === 0 ? `${seconds / 60} min` : `${seconds} s`)

const tests = reactive(new Map<string, Schemas['SourceTest'] | 'busy'>())

async function test(name: string) {
  tests.set(name, 'busy')
  try {
    tests.set(name, await take(api.POST('/sources/{name}/test', { params: { path: { name } } })))
  } catch (problem) {
    tests.set(name, { works: false, detail: problem instanceof Error ? problem.message : String(problem), milliseconds: 0, warning: null })
  }
}
const result = (name: string) => {
  const found = tests.get(name)
  return found && found !== 'busy' ? found : null
}
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Sources</h1>
      <RouterLink v-if="mayChange('source')" :to="{ name: 'new', params: { kind: 'source' } }"><el-button type="primary" plain tabindex="-1">New source</el-button></RouterLink>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <div v-if="data && !data.length" class="card"><p>There are no sources yet. A source is what reports read: a database, metrics, files, or checks from this machine.</p><RouterLink v-if="mayChange('source')" :to="{ name: 'new', params: { kind: 'source' } }"><el-button type="primary" tabindex="-1">New source</el-button></RouterLink></div>
      <div v-else-if="data" class="columns">
        <section v-for="source in data" :key="source.name" class="card stack" :aria-label="source.title">
          <div class="row spread">
            <h2>{{ source.title }}</h2>
            <div class="row">
              <el-button v-if="isAuthor" size="small" type="primary" plain :loading="tests.get(source.name) === 'busy'" :aria-label="`Test ${source.title}`" @click="test(source.name)">Test</el-button>
              <RouterLink v-if="isAuthor" :to="{ name: 'query', params: { name: source.name } }"><el-button size="small" tabindex="-1">Browse and query</el-button></RouterLink>
              <RouterLink v-if="mayChange('source')" :to="{ name: 'form', params: { kind: 'source', name: source.name } }"><el-button size="small" tabindex="-1">Edit</el-button></RouterLink>
            </div>
          </div>
          <div class="outcome" aria-live="polite">
            <template v-if="result(source.name)">
              <p class="answer" :class="{ bad: !result(source.name)!.works }">{{ result(source.name)!.works ? '● It works' : '◆ It refuses' }}: {{ result(source.name)!.detail }} ({{ result(source.name)!.milliseconds }} ms)</p>
              <p v-if="result(source.name)!.warning" class="small warning">▲ {{ result(source.name)!.warning }}</p>
            </template>
          </div>
          <dl class="facts">
            <dt>Name</dt><dd><code>{{ source.name }}</code></dd>
            <dt>Kind</dt><dd>{{ sourceKind(source.kind) }}</dd>
            <dt>Where</dt><dd><code>{{ source.address }}</code></dd>
            <dt>Limits</dt><dd>{{ source.timeout_seconds }} s and {{ source.row_limit.toLocaleString('en') }} rows a query; read-only</dd>
            <dt>Used by</dt><dd>{{ source.used_by.join(', ') || 'nothing yet' }}</dd>
          </dl>
        </section>
      </div>
    </Loading>
    <section v-if="samplers?.length" class="card stack" aria-labelledby="samplers">
      <h2 id="samplers">Samplers</h2>
      <p class="muted small">Queries that are asked on their own schedule; what they answer is kept, so that a source that only knows the present has a history.</p>
      <div class="scroll"><table class="list folds">
        <thead><tr><th>Sampler</th><th>Asks</th><th>Every</th><th>Kept</th><th>Last answer</th></tr></thead>
        <tbody>
          <tr v-for="one in samplers" :key="one.name">
            <td><RouterLink v-if="mayChange('sampler')" :to="{ name: 'form', params: { kind: 'sampler', name: one.name } }">{{ one.title }}</RouterLink><strong v-else>{{ one.title }}</strong><br /><code>{{ one.name }}</code></td>
            <td>{{ one.source }}</td>
            <td class="whole">{{ length(one.every_seconds) }}</td>
            <td>{{ one.samples.toLocaleString('en') }} answers{{ one.since ? ` since ${new Date(one.since).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })}` : '' }}; for {{ one.keep_days }} days</td>
            <td><span :class="one.works ? 'well' : 'ill'">{{ one.works ? '●' : '◆' }} {{ one.detail ?? 'not asked yet' }}</span><br /><span v-if="one.last_at" class="muted small">{{ new Date(one.last_at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' }) }}</span></td>
          </tr>
        </tbody>
      </table></div>
    </section>
  </div>
</template>

<style scoped>
h2 { margin: 0; }
p { margin: 0; }
.answer { color: var(--ok); font-weight: 600; }
.answer.bad { color: var(--critical); }
.warning { color: var(--warning); }
.outcome:empty { position: absolute; }
.well { color: var(--ok); }
.ill { color: var(--critical); }
</style>
