<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { useRouter } from 'vue-router'

import { api, take } from '../api/client'
import { complain } from '../complain'
import { nameIn } from '../forms/fields'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { isAuthor } from '../session'

const router = useRouter()
const { data, error, load } = useLoaded(() => take(api.GET('/dashboards')))

async function copy(name: string) {
  const answer = await ElMessageBox.prompt('What is the copy called? Use small letters, digits and hyphens.', 'Copy this dashboard', { inputValue: `${name}-copy`, confirmButtonText: 'Copy', cancelButtonText: 'Cancel' }).catch(() => null)
  if (!answer) return
  try {
    const made = await take(api.POST('/definitions/{kind}/{name}/copy', { params: { path: { kind: 'dashboard', name } }, body: { name: answer.value } }))
    await router.push({ name: 'edit-dashboard', params: { name: nameIn(made.file) } })
  } catch (problem) {
    complain(problem)
  }
}
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Dashboards</h1>
      <div v-if="isAuthor" class="row">
        <RouterLink :to="{ name: 'published' }"><el-button tabindex="-1">Published</el-button></RouterLink>
        <RouterLink to="/templates"><el-button type="primary" plain tabindex="-1">Ready-made</el-button></RouterLink>
        <RouterLink :to="{ name: 'new-dashboard' }"><el-button tabindex="-1">New dashboard</el-button></RouterLink>
      </div>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <div v-if="data && !data.length" class="card stack">
        <h2>There are no dashboards yet</h2>
        <p class="muted">Begin with something <RouterLink to="/templates">ready-made</RouterLink>, pick measures from a <RouterLink to="/sources">source</RouterLink>, or write one as a TOML file and run <code>maple-lark apply FOLDER</code>.</p>
      </div>
      <div v-else-if="data" class="card scroll">
        <table class="list folds">
          <thead><tr><th>Dashboard</th><th>Asks for</th><th>Sources</th><th>In reports</th><th v-if="isAuthor"><span class="muted">Actions</span></th></tr></thead>
          <tbody>
            <tr v-for="one in data" :key="one.name">
              <td>
                <RouterLink v-if="isAuthor" :to="{ name: 'dashboard', params: { name: one.name } }"><strong>{{ one.title }}</strong></RouterLink><strong v-else>{{ one.title }}</strong>
                <div class="muted small">{{ one.summary ?? (one.blocks === 1 ? 'One block' : `${one.blocks} blocks`) }}</div>
              </td>
              <td data-label="Asks for">{{ one.parameters.join(', ') || '–' }}</td>
              <td data-label="Sources">{{ one.sources.join(', ') || '–' }}</td>
              <td data-label="In reports"><template v-for="(report, index) in one.used_by" :key="report">{{ index ? ', ' : '' }}<RouterLink :to="{ name: 'report', params: { name: report } }">{{ report }}</RouterLink></template><span v-if="!one.used_by.length" class="muted">none</span></td>
              <td v-if="isAuthor">
                <div class="row do">
                  <el-button size="small" :aria-label="`Edit ${one.title}`" @click="router.push({ name: 'edit-dashboard', params: { name: one.name } })">Edit</el-button>
                  <el-button size="small" :aria-label="`Copy ${one.title}`" @click="copy(one.name)">Copy</el-button>
                </div>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </Loading>
  </div>
</template>

<style scoped>
.do { gap: 0.4rem; flex-wrap: nowrap; }
.do .el-button { margin: 0; }
</style>
