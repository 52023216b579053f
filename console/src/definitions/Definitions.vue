<script setup lang="ts">
// Everything that is defined, of every kind: found, made, changed and removed from one place.
import { ElMessage, ElMessageBox } from 'element-plus'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import { nameOf } from '../forms/fields'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { isAuthor, mayChange } from '../session'
import { instant } from '../words'
import { editorOf, filtered, KINDS, kindWords } from './list'

const route = useRoute()
const router = useRouter()
const { data, error, load } = useLoaded(() => take(api.GET('/definitions/names')))
// What is looked for stands in the address, so that a view can be kept.
const kind = computed(() => String(route.query.kind ?? ''))
const search = computed(() => String(route.query.search ?? ''))
const look = (query: Record<string, string>) => void router.replace({ query: { ...route.query, ...Object.fromEntries(Object.entries(query).map(([key, value]) => [key, value || undefined])) } })
const shown = computed(() => filtered(data.value ?? [], kind.value, search.value))

function make(chosen: string) {
  if (chosen === 'calendar') document.querySelector<HTMLInputElement>('#calendar-file')?.click()
  else if (chosen === 'dashboard') void router.push({ name: 'new-dashboard' })
  else void router.push({ name: 'new', params: { kind: chosen } })
}
async function upload(event: Event) {
  const field = event.target as HTMLInputElement
  const file = field.files?.[0]
  if (!file) return
  const name = nameOf(file.name.replace(/\.ics$/i, '')) || 'calendar'
  try {
    const text = await file.text()
    const known = data.value?.find((one) => one.kind === 'calendar' && one.name === name)
    if (known && !(await ElMessageBox.confirm(`There is a calendar “${name}”. Reports that use it follow the new one from now on; the old one stays among its versions.`, 'Replace it?', { confirmButtonText: 'Replace', cancelButtonText: 'Cancel', type: 'warning' }).then(() => true, () => false))) return
    await take(api.POST('/definitions/apply', { body: { files: [{ file: known?.file ?? `calendars/${name}.ics`, text }], remove_others: false } }))
    ElMessage({ type: 'success', message: `The calendar “${name}” is there.`, offset: 72 })
    await load()
  } catch (problem) {
    complain(problem instanceof ApiProblem && problem.problems.length ? new Error(problem.problems.map((one) => `Line ${one.line}: ${one.message}`).join(' ')) : problem)
  } finally {
    field.value = ''
  }
}
async function remove(one: Schemas['DefinitionName']) {
  const sure = await ElMessageBox.confirm('It goes from here; its history stays, and it can be restored. What still needs it prevents its removal.', `Remove the ${kindWords(one.kind)} “${one.title}”?`, { confirmButtonText: 'Remove', cancelButtonText: 'Cancel', type: 'warning' }).then(() => true, () => false)
  if (!sure) return
  try {
    await take(api.DELETE('/definitions/{kind}/{name}', { params: { path: { kind: one.kind, name: one.name } } }))
    await load()
  } catch (problem) {
    complain(problem instanceof ApiProblem && problem.problems.length ? new Error(`It is still needed. ${problem.problems.map((other) => `${other.file}: ${other.message}`).join(' ')}`) : problem)
  }
}
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Definitions</h1>
      <el-dropdown v-if="isAuthor" trigger="click" @command="make"><el-button type="primary" plain>New …</el-button><template #dropdown><el-dropdown-menu><el-dropdown-item v-for="one in KINDS.filter((known) => mayChange(known.kind))" :key="one.kind" :command="one.kind">{{ one.kind === 'calendar' ? 'Calendar (a file of iCalendar)' : one.word.replace(/^./, (letter) => letter.toUpperCase()) }}</el-dropdown-item></el-dropdown-menu></template></el-dropdown>
      <input id="calendar-file" type="file" accept=".ics,text/calendar" class="hidden" tabindex="-1" aria-label="Calendar file" @change="upload" />
    </div>
    <div class="row">
      <el-select :model-value="kind" :empty-values="[null, undefined]" class="short" aria-label="Kind" @update:model-value="look({ kind: $event })"><el-option value="" label="Every kind" /><el-option v-for="one in KINDS" :key="one.kind" :value="one.kind" :label="one.plural" /></el-select>
      <el-input :model-value="search" class="search" clearable placeholder="Search names, titles, files" aria-label="Search definitions" @update:model-value="look({ search: $event })" />
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <p v-if="!shown.length" class="card muted">{{ data?.length ? 'Nothing fits.' : 'Nothing is defined yet.' }}</p>
      <div v-else class="card scroll">
        <table class="list folds">
          <thead><tr><th>Definition</th><th>Kind</th><th>File</th><th>Saved</th><th v-if="isAuthor">Actions</th></tr></thead>
          <tbody>
            <tr v-for="one in shown.slice(0, 500)" :key="`${one.kind} ${one.name}`">
              <td><RouterLink :to="editorOf(one)"><strong>{{ one.title }}</strong></RouterLink><div class="muted small"><code>{{ one.name }}</code></div></td>
              <td data-label="Kind">{{ kindWords(one.kind) }}</td>
              <td data-label="File"><code>{{ one.file }}</code></td>
              <td data-label="Saved">{{ instant(one.saved_at) }} by {{ one.saved_by }}</td>
              <td v-if="isAuthor"><div class="row do"><el-button size="small" :aria-label="`Text and versions of ${one.title}`" @click="router.push({ name: 'definition', params: { kind: one.kind, name: one.name } })">Text and versions</el-button><el-button v-if="mayChange(one.kind)" size="small" :aria-label="`Remove ${one.title}`" @click="remove(one)">Remove</el-button></div></td>
            </tr>
          </tbody>
        </table>
        <p v-if="shown.length > 500" class="muted small">The first 500 of {{ shown.length.toLocaleString('en') }}; search for the others.</p>
      </div>
    </Loading>
  </div>
</template>

<style scoped>
p { margin: 0; }
.short { width: 13rem; }
.search { width: 20rem; }
.hidden { position: absolute; width: 1px; height: 1px; opacity: 0; pointer-events: none; }
.do { gap: 0.4rem; flex-wrap: nowrap; }
.do .el-button { margin: 0; }
@media (max-width: 760px) { .search, .short { width: 100%; } }
</style>
