<script setup lang="ts">
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import { FORMS } from '../forms/fields'
import History from '../parts/History.vue'
import Loading from '../parts/Loading.vue'
import MessagePreview from '../parts/MessagePreview.vue'
import Preview from '../parts/Preview.vue'
import { useLoaded } from '../parts/load'
import { listOf } from '../words'

const route = useRoute()
const router = useRouter()
const kind = computed(() => String(route.params.kind))
const name = computed(() => String(route.params.name))
const text = ref<string | null>(null)
const plan = ref<Schemas['Plan'] | null>(null)
const wrong = ref<{ detail: string; problems: Schemas['FileProblem'][] } | null>(null)
const saving = ref(false)
const area = ref<{ textarea?: HTMLTextAreaElement } | null>(null)

// A new one begins as an example of its kind.
const EXAMPLES: Record<string, string> = {
  channel: '[channel]\nname = "harbour"\ntitle = "Mail server of the harbour"\nkind = "mail-server" # other kinds are in the form\nhost = "mail.orrin-sound.example"\ntls = "starttls"\nfrom = "Reports <reports@orrin-sound.example>"\n\n[channel.sign-in]\nkind = "password"\nuser = "reports"\npassword = "secret:mail-password" # kept by: maple-lark secret set mail-password\n',
  dashboard: '[dashboard]\nname = "new-dashboard"\ntitle = "New dashboard"\n\n[[query]]\nname = "rows"\nsource = "operations"\nsql = "select 1 as one"\n\n[[section]]\ntitle = "All"\n\n[[section.block]]\nshow = "table"\ntitle = "Rows"\nquery = "rows"\n',
  person: '[person]\nname = "new-person"\ntitle = "New person"\naddress = "new.person@orrin-sound.example"\n',
  group: '[group]\nname = "new-group"\ntitle = "New group"\nmembers = ["office@orrin-sound.example"]\n',
  'message-template': '[message-template]\nname = "morning"\ntitle = "Good morning"\nsubject = "{{ report.title }}: {{ window.label }}"\ntext = """\nGood morning. {{ summary }}.\n"""\n',
}
const fresh = computed(() => route.name === 'new-text')
const named = computed(() => /^name\s*=\s*"([^"]*)"/m.exec(text.value ?? '')?.[1] ?? 'new')
const { data, error, load } = useLoaded<{ file: string; text: string; based_on?: string | null }>(() =>
  fresh.value ? Promise.resolve({ file: `new ${kind.value}`, text: '', based_on: '' }) : take(api.GET('/definitions/{kind}/{name}', { params: { path: { kind: kind.value, name: name.value } } })),
)
watch(data, (found) => {
  if (fresh.value) text.value ??= EXAMPLES[kind.value] ?? `[${kind.value}]\nname = ""\n`
  // A draft that another page has put together is shown as the change that it is.
  const draft = `draft ${kind.value} ${name.value}`
  text.value ??= sessionStorage.getItem(draft) ?? found?.text ?? null
  sessionStorage.removeItem(draft)
})
const files = computed(() => ({ files: [{ file: fresh.value ? `${named.value}.toml` : (data.value?.file ?? ''), text: text.value ?? '', based_on: data.value?.based_on }], remove_others: false }))
const going = computed(() => (plan.value?.changes ?? []).filter((one) => one.lets_go))
const changed = computed(() => text.value !== null && text.value !== data.value?.text)

let asked = 0
let timer: ReturnType<typeof setTimeout> | undefined
watch(text, () => {
  clearTimeout(timer)
  const mine = ++asked
  timer = setTimeout(async () => {
    try {
      const found = await take(api.POST('/definitions/plan', { body: files.value }))
      if (mine === asked) [plan.value, wrong.value] = [found, null]
    } catch (problem) {
      if (mine === asked) wrong.value = problem instanceof ApiProblem ? { detail: problem.message, problems: problem.problems } : { detail: String(problem), problems: [] }
    }
  }, 300)
})

// A theme is shown on a sample as it is typed.
const picture = ref('')
async function preview() {
  if (kind.value !== 'theme' || text.value === null) return
  const answer = await api.POST('/themes/preview', { body: { text: text.value }, parseAs: 'blob' }).catch(() => null)
  if (!answer?.response.ok || !answer.data) return
  // Pages of the console show pictures of their own and such as stand in the page, no others.
  const reader = new FileReader()
  reader.onload = () => (picture.value = String(reader.result))
  reader.readAsDataURL(answer.data as unknown as Blob)
}
let later: ReturnType<typeof setTimeout> | undefined
watch(text, () => {
  clearTimeout(later)
  later = setTimeout(preview, 300)
})
onUnmounted(() => clearTimeout(later))

/** Puts the cursor where a problem is. */
function show(line: number, column: number) {
  const field = area.value?.textarea
  if (!field) return
  const lines = field.value.split('\n')
  const at = lines.slice(0, line - 1).reduce((sum, one) => sum + one.length + 1, 0) + column - 1
  field.focus()
  field.setSelectionRange(at, at + Math.max(1, (lines[line - 1] ?? '').length - column + 1))
  field.scrollTop = Math.max(0, (line - 6) * (field.scrollHeight / lines.length))
}

async function save() {
  saving.value = true
  try {
    await take(api.POST('/definitions/apply', { body: files.value }))
    await router.push(kind.value === 'report' ? { name: 'report', params: { name: name.value } } : kind.value === 'dashboard' ? { name: 'dashboard', params: { name: named.value } } : { name: listOf(kind.value).name })
  } catch (problem) {
    complain(problem)
  } finally {
    saving.value = false
  }
}
/** What was typed goes with the version that it was made from. */
async function again() {
  text.value = null
  await load()
}
const lineClass = (line: string) => (line.startsWith('+') ? 'plus' : line.startsWith('-') ? 'minus' : 'same')
</script>

<template>
  <Loading :error="data ? null : error" :ready="text !== null" @again="load">
    <form v-if="data" class="stack" @submit.prevent="save">
      <div class="row spread">
        <div>
          <p class="small crumbs"><RouterLink :to="{ name: listOf(kind).name }">{{ listOf(kind).title }}</RouterLink> / <RouterLink v-if="kind === 'report'" :to="{ name: 'report', params: { name } }">{{ name }}</RouterLink><template v-else-if="fresh">{{ kind }}</template><template v-else>{{ kind }} {{ name }}</template></p>
          <h1>{{ fresh ? `A new ${kind}` : data.file }}</h1>
        </div>
        <div class="row">
          <RouterLink v-if="kind in FORMS" :to="fresh ? { name: 'new', params: { kind } } : { name: 'form', params: { kind, name } }"><el-button tabindex="-1">As a form</el-button></RouterLink>
          <el-button @click="router.back()">Cancel</el-button>
          <el-button type="primary" native-type="submit" :loading="saving" :disabled="!changed || wrong !== null">Apply</el-button>
        </div>
      </div>
      <div class="columns editor" :class="{ even: kind === 'report' }">
        <section class="card" aria-label="The definition">
          <el-input ref="area" v-model="text" class="text" type="textarea" :rows="30" resize="vertical" spellcheck="false" aria-label="Text of the definition" />
        </section>
        <section v-if="kind === 'theme'" class="card" aria-label="A sample in this theme">
          <img v-if="picture" class="sample" :src="picture" alt="The first page of a sample report in this theme" />
          <p v-else class="muted">The sample is being drawn …</p>
        </section>
        <div class="stack">
        <section class="card" aria-labelledby="change" aria-live="polite">
          <h2 id="change">{{ wrong ? 'This cannot be applied' : 'Changes' }}</h2>
          <template v-if="wrong">
            <ul v-if="wrong.problems.length" class="problems">
              <li v-for="(one, index) in wrong.problems" :key="index">
                <button type="button" @click="show(one.line, one.column)">Line {{ one.line }}</button>
                <span><code v-if="one.key">{{ one.key }}</code> {{ one.message }}<em v-if="one.file !== data.file"> (in {{ one.file }})</em></span>
              </li>
            </ul>
            <p v-else>{{ wrong.detail }}</p>
          </template>
          <p v-else-if="!changed" class="muted">Nothing yet. Changes are checked as you type and applied when you say so; a run that is under way keeps the definition it began with.</p>
          <template v-else><p v-for="one in going" :key="one.name" class="warning">By its new terms, these go at once and for good: {{ one.lets_go }}.</p></template>
          <pre v-for="one in changed && !wrong ? (plan?.changes ?? []) : []" :key="one.name" class="diff"><span v-for="(line, index) in one.diff.split('\n')" :key="index" :class="lineClass(line)">{{ line }}
</span></pre>
        </section>
        <MessagePreview v-if="kind === 'report' && !fresh && text !== null" :report="name" :text="text" />
        </div>
      </div>
      <section v-if="text !== null && ['dashboard', 'report'].includes(kind)" class="card" aria-labelledby="preview">
        <h2 id="preview">Preview</h2>
        <Preview :order="{ definition: text }" asks />
      </section>
      <History v-if="!fresh" :key="data.text" :kind="kind" :name="name" @restored="again" />
    </form>
  </Loading>
</template>

<style scoped>
.crumbs { margin: 0; }
.editor { grid-template-columns: minmax(0, 3fr) minmax(0, 2fr); }
.editor.even { grid-template-columns: repeat(2, minmax(0, 1fr)); }
.text :deep(textarea) { font-family: ui-monospace, 'DejaVu Sans Mono', monospace; font-size: 0.84rem; line-height: 1.5; white-space: pre; overflow-x: auto; tab-size: 4; }
.sample { width: 100%; display: block; border: 1px solid var(--rule, #d5dde3); }
.problems { list-style: none; margin: 0; padding: 0; display: grid; gap: 0.6rem; }
.problems li { display: grid; grid-template-columns: max-content minmax(0, 1fr); gap: 0.7rem; align-items: baseline; overflow-wrap: anywhere; }
.problems button { background: none; border: 0; padding: 0; color: var(--critical); font-weight: 600; cursor: pointer; text-decoration: underline; }
.diff { margin: 0; font: 0.8rem/1.5 ui-monospace, 'DejaVu Sans Mono', monospace; overflow-x: auto; }
.diff .plus { color: var(--ok); }
.diff .minus { color: var(--critical); }
.diff .same { color: var(--muted); }
@media (max-width: 760px) { .editor, .editor.even { grid-template-columns: minmax(0, 1fr); } }
</style>
