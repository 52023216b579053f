<script setup lang="ts">
import { reactive } from 'vue'

import { api, take, type Schemas } from '../api/client'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'

const { data, error, load } = useLoaded(() => take(api.GET('/sources')))
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
    <h1>Sources</h1>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <div v-if="data && !data.length" class="card"><p class="muted">There are no sources yet. Define one as a TOML file and apply it.</p></div>
      <template v-else-if="data">
        <section v-for="source in data" :key="source.name" class="card stack" :aria-label="source.title">
          <div class="row spread">
            <h2>{{ source.title }}</h2>
            <el-button size="small" type="primary" plain :loading="tests.get(source.name) === 'busy'" @click="test(source.name)">Test</el-button>
          </div>
          <div aria-live="polite">
            <template v-if="result(source.name)">
              <p class="answer" :class="{ bad: !result(source.name)!.works }">{{ result(source.name)!.works ? '● It works' : '◆ It refuses' }}: {{ result(source.name)!.detail }} ({{ result(source.name)!.milliseconds }} ms)</p>
              <p v-if="result(source.name)!.warning" class="small warning">▲ {{ result(source.name)!.warning }}</p>
            </template>
          </div>
          <dl class="facts">
            <dt>Name</dt><dd><code>{{ source.name }}</code></dd>
            <dt>Kind</dt><dd>{{ source.kind }}</dd>
            <dt>Where</dt><dd><code>{{ source.address }}</code></dd>
            <dt>Limits</dt><dd>{{ source.timeout_seconds }} s and {{ source.row_limit.toLocaleString('en') }} rows a query; read-only</dd>
            <dt>Used by</dt><dd>{{ source.used_by.join(', ') || 'nothing yet' }}</dd>
          </dl>
        </section>
      </template>
    </Loading>
  </div>
</template>

<style scoped>
h2 { margin: 0; }
p { margin: 0; }
.answer { color: var(--ok); font-weight: 600; }
.answer.bad { color: var(--critical); }
.warning { color: var(--warning); }
</style>
