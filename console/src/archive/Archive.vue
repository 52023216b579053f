<script setup lang="ts">
// Every document that was made: by its words, its report, who got it; as a list, or as front pages side by side.
import { computed, reactive, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'

import { at } from '../api/base'
import { api, take } from '../api/client'
import { documentViewFormatValues as formats } from '../api/schema'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { isAdministrator, isHeld } from '../session'
import { instant, size } from '../words'
import { asked, countWords, fronts, grouped, kept, statusMark, wantedOf } from './words'

const SIZE = 24
const route = useRoute()
const router = useRouter()
const wanted = reactive(wantedOf(route.query))
const page = ref(1)
const sideBySide = ref(route.query.view === 'fronts')
const { data: reports } = useLoaded(async () => (isHeld.value ? [] : await take(api.GET('/report-names'))))
const query = computed(() => asked(wanted))
const { data, error, load } = useLoaded(() => take(api.GET('/archive', { params: { query: { ...query.value, page: page.value, size: SIZE } as never } })))
watch([query, sideBySide], async () => {
  page.value = 1
  await router.replace({ query: { ...kept(wanted), ...(sideBySide.value ? { view: 'fronts' } : {}) } })
  await load()
})
const zip = computed(() => at(`/api/v1/archive.zip?${new URLSearchParams(query.value)}`))
const file = (id: string) => at(`/api/v1/documents/${id}`)
const STATUSES = [
  { value: '', label: 'Any status' },
  { value: 'ok', label: 'Within limits' },
  { value: 'warning', label: 'Warning' },
  { value: 'critical', label: 'Critical' },
]
const SORTS = [
  { value: '', label: 'Newest first' },
  { value: 'oldest', label: 'Oldest first' },
  { value: 'largest', label: 'Largest first' },
  { value: 'report', label: 'By report' },
]
</script>

<template>
  <div class="stack">
    <div class="row spread">
      <h1>Archive</h1>
      <div class="row">
        <RouterLink v-if="isAdministrator" :to="{ name: 'keeping' }">Kept how long</RouterLink>
        <a :href="zip" download><el-button :disabled="!data?.items.length">Download all as ZIP</el-button></a>
      </div>
    </div>
    <section class="card stack">
      <form class="search" role="search" aria-label="Search the archive" @submit.prevent="load">
        <el-input v-model.lazy="wanted.words" class="words" clearable placeholder="Words in the document, such as db-2" aria-label="Words in the document" />
        <el-select v-if="!isHeld" v-model="wanted.report" class="third" clearable filterable :value-on-clear="''" :empty-values="[null, undefined]" placeholder="Any report" aria-label="Report"><el-option value="" label="Any report" /><el-option v-for="one in reports" :key="one.name" :value="one.name" :label="one.title" /></el-select>
        <el-input v-model.lazy="wanted.recipient" class="third" clearable placeholder="Sent to" aria-label="Sent to" />
        <el-select v-model="wanted.format" :empty-values="[null, undefined]" aria-label="Format"><el-option value="" label="Any format" /><el-option v-for="one in formats" :key="one" :value="one" :label="one.toUpperCase()" /></el-select>
        <el-select v-model="wanted.status" :empty-values="[null, undefined]" aria-label="Status"><el-option v-for="one in STATUSES" :key="one.value" :value="one.value" :label="one.label" /></el-select>
        <el-date-picker v-model="wanted.from" type="date" value-format="YYYY-MM-DD" placeholder="Made from" aria-label="Made from" @clear="wanted.from = ''" />
        <el-date-picker v-model="wanted.to" type="date" value-format="YYYY-MM-DD" placeholder="to" aria-label="Made to" @clear="wanted.to = ''" />
        <el-select v-model="wanted.sort" :empty-values="[null, undefined]" aria-label="Order"><el-option v-for="one in SORTS" :key="one.value" :value="one.value" :label="one.label" /></el-select>
      </form>
      <Loading :error="data ? null : error" :ready="data !== null" @again="load">
        <div class="row spread">
          <p class="muted" role="status">{{ countWords(data?.total ?? 0, data?.more ?? false) }}</p>
          <el-switch v-model="sideBySide" aria-label="Front pages side by side" active-text="Front pages side by side" />
        </div>
        <p v-if="!data?.items.length" class="muted">Nothing that fits was made. What has just been made is found a few seconds later.</p>
        <div v-else-if="sideBySide" class="fronts">
          <component :is="one.sees_run ? RouterLink : 'a'" v-for="one in fronts(data.items)" :key="one.document.snapshot_id" v-bind="one.sees_run ? { to: { name: 'run', params: { id: one.run } } } : { href: file(one.document.id), target: '_blank', rel: 'noopener' }" class="front">
            <img :src="at(`/api/v1/snapshots/${one.document.snapshot_id}/front`)" :alt="`First page of ${one.title}, ${one.window}`" loading="lazy" width="298" height="421" />
            <strong>{{ one.title }}</strong>
            <span class="muted small">{{ one.window }}</span>
          </component>
        </div>
        <ul v-else class="results">
          <li v-for="files in grouped(data.items)" :key="files[0]!.document.id">
            <p class="head">
              <RouterLink v-if="files[0]!.sees_run" :to="{ name: 'run', params: { id: files[0]!.run } }"><strong>{{ files[0]!.title }}</strong></RouterLink><strong v-else>{{ files[0]!.title }}</strong> · {{ files[0]!.window }}
              <span v-if="files[0]!.status" :class="statusMark(files[0]!.status).tone">{{ statusMark(files[0]!.status).mark }} {{ statusMark(files[0]!.status).word }}</span>
            </p>
            <p v-if="files[0]!.found.length" class="found"><template v-for="(piece, i) in files[0]!.found" :key="i"><mark v-if="piece.hit">{{ piece.text }}</mark><template v-else>{{ piece.text }}</template></template></p>
            <ul class="files" :aria-label="`Files of ${files[0]!.title}`">
              <li v-for="one in files" :key="one.document.id"><template v-if="one.document.removed_at">{{ one.document.file_name }}</template><a v-else :href="file(one.document.id)" target="_blank" rel="noopener">{{ one.document.file_name }}</a> <span class="muted small"><template v-if="one.document.variant">as read with {{ one.document.variant }}, </template>{{ one.document.removed_at ? `went ${instant(one.document.removed_at)}` : size(one.document.size) }}</span></li>
            </ul>
            <p class="small muted">made {{ instant(files[0]!.made_at) }}, {{ files[0]!.sent === 0 ? 'not sent' : files[0]!.sent === 1 ? 'sent in 1 mail' : `sent in ${files[0]!.sent} mails` }}</p>
          </li>
        </ul>
        <el-pagination v-if="data && data.total > SIZE" v-model:current-page="page" layout="prev, pager, next" :page-size="SIZE" :total="data.total" @current-change="load" />
      </Loading>
    </section>
  </div>
</template>

<style scoped>
.search { display: grid; grid-template-columns: repeat(10, minmax(0, 1fr)); gap: 0.6rem; }
.search > * { grid-column: span 2; }
.search > .words { grid-column: span 4; }
.search > .third { grid-column: span 3; }
.search :deep(.el-date-editor) { width: 100%; }
.results { list-style: none; margin: 0; padding: 0; }
.results > li { border-top: 1px solid var(--line); padding: 0.65rem 0; }
.results p { margin: 0.2rem 0 0; }
.files { list-style: none; display: flex; flex-wrap: wrap; gap: 0.15rem 1rem; margin: 0.25rem 0; padding: 0; }
.results a { overflow-wrap: anywhere; }
.found { overflow-wrap: anywhere; }
mark { background: color-mix(in srgb, var(--lamp) 45%, transparent); color: inherit; padding: 0 0.15em; border-radius: 3px; }
.fronts { display: grid; grid-template-columns: repeat(auto-fill, minmax(12rem, 1fr)); gap: 1rem; }
.front { display: grid; gap: 0.25rem; text-decoration: none; color: inherit; align-content: start; }
.front img { width: 100%; height: auto; border: 1px solid var(--line); border-radius: 4px; background: #fff; }
.front:hover strong { text-decoration: underline; }
p { margin: 0; }
.ok { color: var(--ok); font-weight: 600; }
.warning { color: var(--warning); font-weight: 600; }
.critical { color: var(--critical); font-weight: 600; }
@media (max-width: 46rem) {
  .search { grid-template-columns: 1fr 1fr; }
  .search > *, .search > .third { grid-column: span 1; }
  .search > .words { grid-column: span 2; }
}
</style>
