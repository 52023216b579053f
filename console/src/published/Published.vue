<script setup lang="ts">
// What is published. To those who only look it is all they need: what they can open, and their latest reports.
import { ElMessageBox } from 'element-plus'
import { computed, ref } from 'vue'

import { at } from '../api/base'
import { api, take } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import ContentMark from '../parts/ContentMark.vue'
import StateMark from '../parts/StateMark.vue'
import { useLoaded } from '../parts/load'
import { isAuthor, isHeld } from '../session'
import { instant } from '../words'
import { grouped } from '../archive/words'
import { byFormat, isGood, pathOf, untilWords, whomWords, type View } from './words'

const SIZE = 50
const page = ref(1)
const { data, error, load } = useLoaded(() => take(api.GET('/views', { params: { query: { page: page.value, size: SIZE } } })))
const { data: reports } = useLoaded(async () => (isHeld.value ? null : await take(api.GET('/reports', { params: { query: { order: 'last', size: 200 } } }))))
// Who is held to values sees documents, not runs.
const { data: documents } = useLoaded(async () => (isHeld.value ? await take(api.GET('/archive', { params: { query: { size: 100 } as never } })) : null))
const latestDocuments = computed(() => grouped(documents.value?.items ?? []).slice(0, 12).map((files) => ({ first: files[0]!, files: byFormat(files) })))
const looks = computed(() => !isAuthor.value)
const latest = computed(() => (reports.value?.items ?? []).filter((report) => report.last_run))
const now = Date.now()

async function end(view: View) {
  const sure = await ElMessageBox.confirm('Nobody can open it any more.', `End “${view.title}”?`, { confirmButtonText: 'End it', cancelButtonText: 'Cancel' }).then(() => true, () => false)
  if (!sure) return
  await take(api.DELETE('/views/{id}', { params: { path: { id: view.id } } })).catch(complain)
  await load()
}
</script>

<template>
  <div class="stack">
    <h1>Published</h1>
    <section class="card stack scroll" aria-label="What is published">
      <Loading :error="data ? null : error" :ready="data !== null" @again="load">
        <p v-if="!data?.items.length" class="muted">{{ looks ? 'Nothing is published to you.' : 'Nothing is published. “Publish …” stands on the pages of dashboards and runs.' }}</p>
        <ul v-else-if="looks" class="cards">
          <li v-for="view in data.items" :key="view.id"><a :href="pathOf(view.address)" target="_blank" rel="noopener"><strong>{{ view.title }}</strong></a><span class="muted small">{{ view.dashboard ? 'as it is now' : 'of one run' }}, by {{ view.made_by }}</span></li>
        </ul>
        <table v-else class="list folds">
          <thead><tr><th>Title</th><th>For</th><th>Until</th><th>Opened</th><th>By</th><td></td></tr></thead>
          <tbody>
            <tr v-for="view in data.items" :key="view.id" :class="{ over: !isGood(view, now) }">
              <td><a v-if="isGood(view, now)" :href="pathOf(view.address)" target="_blank" rel="noopener">{{ view.title }}</a><template v-else>{{ view.title }}</template><div class="muted small">{{ view.dashboard ? `dashboard ${view.dashboard}` : 'the view of a run' }}</div></td>
              <td data-label="For">{{ whomWords(view) }}</td>
              <td data-label="Until" class="whole">{{ untilWords(view, now) }}</td>
              <td data-label="Opened" class="whole">{{ view.opened }}<div v-if="view.last_opened_at" class="muted small">last {{ instant(view.last_opened_at) }}</div></td>
              <td data-label="By">{{ view.made_by }}</td>
              <td><el-button v-if="isGood(view, now)" size="small" :aria-label="`End ${view.title}`" @click="end(view)">End …</el-button></td>
            </tr>
          </tbody>
        </table>
        <el-pagination v-if="data && data.total > SIZE" v-model:current-page="page" layout="prev, pager, next" :page-size="SIZE" :total="data.total" @current-change="load" />
      </Loading>
    </section>
    <section v-if="looks && latest.length" class="card stack scroll" aria-labelledby="latest">
      <h2 id="latest">Latest reports</h2>
      <ul class="cards">
        <li v-for="report in latest" :key="report.name"><RouterLink :to="{ name: 'run', params: { id: report.last_run!.id } }"><strong>{{ report.title }}</strong></RouterLink><span class="small"><StateMark :state="report.last_run!.state" /> <ContentMark :status="report.last_run!.status" /> <span class="muted">{{ report.last_run!.window.label }}</span></span></li>
      </ul>
    </section>
    <section v-if="latestDocuments.length" class="card stack scroll" aria-labelledby="latest-documents">
      <h2 id="latest-documents">Latest documents</h2>
      <ul class="cards">
        <li v-for="{ first, files } in latestDocuments" :key="first.document.id">
          <strong>{{ first.title }}</strong><span class="small"><ContentMark :status="first.status" /> <span class="muted">{{ first.window }}</span></span>
          <span class="small row"><template v-for="one in files" :key="one.format"><a v-if="one.count === 1" :href="at(`/api/v1/documents/${one.id}`)" target="_blank" rel="noopener" :aria-label="`${first.title}, ${first.window}, as ${one.format.toUpperCase()}`">{{ one.format.toUpperCase() }}</a><RouterLink v-else :to="{ name: 'archive', query: { format: one.format } }">{{ one.count }} {{ one.format.toUpperCase() }}</RouterLink></template></span>
        </li>
      </ul>
    </section>
  </div>
</template>

<style scoped>
.cards { list-style: none; margin: 0; padding: 0; display: grid; grid-template-columns: repeat(auto-fill, minmax(16rem, 1fr)); gap: 0.75rem; }
.cards li { display: grid; gap: 0.15rem; padding: 0.7rem 0.9rem; border: 1px solid var(--line); border-radius: 6px; }
.over { opacity: 0.75; }
p { margin: 0; }
</style>
