<script setup lang="ts">
// A definition as a form. It changes the same text as whoever writes by hand, and leaves alone
// what it does not show.
import { ElMessage, ElMessageBox } from 'element-plus'
import { computed, nextTick, onUnmounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import MessagePreview from '../parts/MessagePreview.vue'
import { useLoaded } from '../parts/load'
import { onlyTeam, user } from '../session'
import { listOf } from '../words'
import FieldInput from './FieldInput.vue'
import { kindOf, type Entered, type Field, type Keys } from './field'
import { asked, beside, draftOf, entered, fieldsOf, inNameSpace, isReference, isSecretStep, merged, missing, nameIn, nameOf, partOf, patchOf, secretName, usualNow, valueAt, withoutOthers, withTeams } from './fields'

const route = useRoute()
const router = useRouter()
// A page of its own, or one part of a definition in another page.
const props = defineProps<{ of?: { kind: string; name: string }; only?: string }>()
const emit = defineEmits<{ saved: []; close: [] }>()
const kind = computed(() => props.of?.kind ?? String(route.params.kind))
const fresh = computed(() => !props.of && route.name === 'new')
const fields = computed(() => partOf(withoutOthers(withTeams(fieldsOf(kind.value, fresh.value), user.value?.teams ?? [], before.value), before.value), props.only))
const name = ref(props.of?.name ?? String(route.params.name ?? ''))
const alone = ['audiences', 'audiences-from', 'changes', 'json-fields', 'steps', 'formats', 'truth', 'values', 'colour', 'picture']
const wide = ['people', 'dashboards', 'formats', 'audiences', 'audiences-from', 'changes', 'json-fields', 'steps', 'values', 'long', 'texts']
// What was begun at one address is not what another one asks for.
const draft = computed(() => `form ${kind.value} ${fresh.value ? `new ${String(route.query.kind ?? '')}` : name.value} ${props.only ?? ''}`)

const { data, error, load } = useLoaded<{ keys: unknown; based_on?: string; file?: string }>(() =>
  fresh.value ? Promise.resolve({ keys: {} }) : take(api.GET('/definitions/{kind}/{name}/keys', { params: { path: { kind: kind.value, name: name.value } } })),
)
/** What the address says of a new definition: the kind of a source, the dashboard of a report. */
const given = (): Entered => (!fresh.value ? {} : { ...(onlyTeam.value && fields.value.some((field) => field.key === `${kind.value}.team`) ? { [`${kind.value}.team`]: onlyTeam.value } : {}), ...(route.query.kind ? { [`${kind.value}.kind`]: String(route.query.kind) } : {}), ...(kind.value === 'report' && route.query.dashboard ? { 'report.dashboards': [String(route.query.dashboard)] } : {}) })
const before = computed(() => (data.value?.keys ?? {}) as Keys)
const values = ref<Entered | null>(null)
watch(data, (found) => {
  if (!found || values.value) return
  const kept = sessionStorage.getItem(draft.value)
  values.value = { ...entered(fields.value, before.value), ...given(), ...draftOf(kept, found.based_on) }
})
// Nothing that was entered is lost by a reload or an expired session, but secrets are not stored here.
watch(
  values,
  (now) => {
    const open = Object.fromEntries(Object.entries(now ?? {}).filter(([key]) => !['secret', 'steps'].includes(String(fields.value.find((field) => field.key === key)?.as))))
    if (now) sessionStorage.setItem(draft.value, JSON.stringify({ basedOn: data.value?.based_on, values: open }))
  },
  { deep: true },
)
// The title suggests the name until somebody gives another; what belongs to a team has that before it.
const nameKey = computed(() => `${kind.value}.name`)
const suggested = computed(() => {
  const given = values.value ?? {}
  const shared = given[`${kind.value}.teams`]
  const chosen = given[`${kind.value}.team`] || (Array.isArray(shared) ? shared[0] : undefined)
  const usual = 'source' === kind.value || 'channel' === kind.value ? undefined : onlyTeam.value
  return inNameSpace(chosen ? String(chosen) : usual, nameOf(String(given[`${kind.value}.title`] ?? '')))
})
watch(suggested, (now, old) => {
  const given = values.value
  if (given && fresh.value && (!given[nameKey.value] || given[nameKey.value] === old)) given[nameKey.value] = now
})
const shown = computed(() => (values.value ? asked(fields.value, values.value) : []))
watch(shown, () => values.value && Object.assign(values.value, usualNow(fields.value, values.value)))
const main = computed(() => shown.value.filter((field) => !field.more))
const more = computed(() => shown.value.filter((field) => field.more))
const open = computed(() => (values.value ? missing(fields.value, values.value) : []))
const { data: book } = useLoaded(() => take(api.GET('/people')))
const { data: sources } = useLoaded(() => take(api.GET('/sources')))
const { data: names } = useLoaded(() => take(api.GET('/definitions/names')))
// What a source can be asked follows from its kind.
watch([values, sources], ([now, known]) => {
  for (const field of fields.value.filter((one) => one.of === 'source')) {
    const found = known?.find((one) => one.name === now?.[field.key])?.kind
    if (now && found && now[kindOf(field.key)] !== found) now[kindOf(field.key)] = found
  }
}, { deep: true })
const { data: dashboards } = useLoaded(() => take(api.GET('/dashboards')))
// A part of the form does not ask for the dashboards; they are those that are stored.
const chosen = computed(() => {
  const named = values.value?.['report.dashboards'] ?? valueAt(before.value, 'report.dashboards') ?? []
  return Array.isArray(named) ? named.map(String) : [String(named)]
})
const people = computed(() => [...(book.value?.people.map((one) => ({ value: one.name, label: one.title })) ?? []), ...(book.value?.groups.map((one) => ({ value: one.name, label: `${one.title} (group)` })) ?? [])])

const saving = ref(false)
const wrong = ref<{ at: Record<string, string>; rest: string[] }>({ at: {}, rest: [] })

/** Secrets are stored first and never shown again; the definition only refers to them. */
async function stored(found: Entered): Promise<Entered> {
  const kept = { ...found }
  for (const field of shown.value.filter((one) => one.as === 'secret')) {
    const value = String(found[field.key] ?? '').trim()
    if (!value || isReference(value)) continue
    const secret = secretName(String(found[nameKey.value]), field.key)
    await take(api.PUT('/secrets/{name}', { params: { path: { name: secret } }, body: { value } }))
    kept[field.key] = `secret:${secret}`
  }
  for (const field of shown.value.filter((one) => one.as === 'steps')) {
    const steps: Keys[] = []
    for (const step of (found[field.key] as Keys[] | undefined) ?? []) {
      const value = String(step.with ?? '').trim()
      if (!isSecretStep(step) || !value || isReference(value)) {
        steps.push(step)
        continue
      }
      const secret = secretName(String(found[nameKey.value]), `${kind.value}.password`)
      await take(api.PUT('/secrets/{name}', { params: { path: { name: secret } }, body: { value } }))
      steps.push({ ...step, with: `secret:${secret}` })
    }
    kept[field.key] = steps
  }
  return kept
}

/** What a report's new terms let go at once is said before they are saved. */
async function agreed(keys: Keys): Promise<boolean> {
  if (fresh.value || kind.value !== 'report' || !('keep' in keys)) return true
  const { text } = await take(api.POST('/definitions/draft', { body: { text: '', keys: merged(before.value, keys) as Record<string, never> } }))
  const plan = await take(api.POST('/definitions/plan', { body: { files: [{ file: data.value?.file ?? '', text }], remove_others: false } }))
  const goes = plan.changes.find((one) => one.lets_go)?.lets_go
  if (!goes) return true
  return ElMessageBox.confirm(`By its new terms, these go at once and for good: ${goes}.`, `Save “${name.value}”?`, { confirmButtonText: 'Save', cancelButtonText: 'Cancel', type: 'warning' }).then(() => true, () => false)
}

async function save(): Promise<boolean> {
  if (!values.value) return false
  saving.value = true
  wrong.value = { at: {}, rest: [] }
  try {
    const ready = await stored(values.value)
    const keys = patchOf(fields.value, ready, before.value)
    if (!(await agreed(keys))) return false
    if (fresh.value) {
      const made = await take(api.POST('/definitions/{kind}', { params: { path: { kind: kind.value } }, body: { keys } }))
      values.value[nameKey.value] = nameIn(made.file)
    } else {
      await take(api.PATCH('/definitions/{kind}/{name}', { params: { path: { kind: kind.value, name: name.value } }, body: { keys, based_on: data.value?.based_on } }))
    }
    sessionStorage.removeItem(draft.value)
    return true
  } catch (problem) {
    wrong.value = problem instanceof ApiProblem && problem.problems.length ? beside(shown.value, problem.problems) : { at: {}, rest: [problem instanceof Error ? problem.message : String(problem)] }
    await nextTick()
    document.querySelector<HTMLElement>('.wrong')?.scrollIntoView({ block: 'center' })
    return false
  } finally {
    saving.value = false
  }
}

async function finish() {
  if (!(await save())) return
  ElMessage({ type: 'success', message: 'Saved.', offset: 72 })
  if (props.of) {
    emit('saved')
    return
  }
  if (kind.value === 'report') {
    await router.push({ name: 'report', params: { name: String(values.value?.[nameKey.value]) } })
    return
  }
  if (kind.value !== 'source') {
    await router.push({ name: listOf(kind.value).name })
    return
  }
  // A source is tested where it was made, so that what is wrong can be put right there.
  name.value = String(values.value?.[nameKey.value])
  values.value = null
  await router.replace({ name: 'form', params: { kind: kind.value, name: name.value } })
  await load()
  await test()
}

const tested = ref<Schemas['SourceTest'] | null>(null)
const testing = ref(false)
async function test() {
  testing.value = true
  tested.value = null
  try {
    tested.value = await take(api.POST('/sources/{name}/test', { params: { path: { name: name.value } } }))
  } catch (problem) {
    complain(problem)
  } finally {
    testing.value = false
  }
}

async function remove() {
  const sure = await ElMessageBox.confirm('It goes from here; its history stays, and it can be restored. What still needs it prevents its removal.', `Remove the ${kind.value} “${name.value}”?`, { confirmButtonText: 'Remove', cancelButtonText: 'Cancel', type: 'warning' }).then(() => true, () => false)
  if (!sure) return
  try {
    await take(api.DELETE('/definitions/{kind}/{name}', { params: { path: { kind: kind.value, name: name.value } } }))
    sessionStorage.removeItem(draft.value)
    await router.push({ name: listOf(kind.value).name })
  } catch (problem) {
    wrong.value = { at: {}, rest: problem instanceof ApiProblem && problem.problems.length ? problem.problems.map((one) => `${one.file}: ${one.message}`) : [problem instanceof Error ? problem.message : String(problem)] }
  }
}

// A theme is shown on a sample as it is put together, and a message as the mail that it becomes.
const now = computed(() => (values.value ? merged(before.value, patchOf(fields.value, values.value, before.value)) : null))
const mail = computed(() => kind.value === 'report' && !fresh.value && (!props.only || props.only === 'Message'))
const picture = ref('')
let later: ReturnType<typeof setTimeout> | undefined
async function sample() {
  const keys = now.value
  if (kind.value !== 'theme' || !keys) return
  ;((keys.theme ??= {}) as Keys).name ||= 'sample'
  const drafted = await take(api.POST('/definitions/draft', { body: { text: '', keys: keys as unknown as Record<string, never> } })).catch(() => null)
  const answer = drafted && (await api.POST('/themes/preview', { body: { text: drafted.text }, parseAs: 'blob' }).catch(() => null))
  if (!answer?.response.ok || !answer.data) return
  const reader = new FileReader()
  reader.onload = () => (picture.value = String(reader.result))
  reader.readAsDataURL(answer.data as unknown as Blob)
}
watch(
  values,
  () => {
    if (kind.value !== 'theme') return
    clearTimeout(later)
    later = setTimeout(() => void sample(), 300)
  },
  { deep: true },
)
onUnmounted(() => clearTimeout(later))

const storedAs = (field: Field) => String(valueAt(before.value, field.key) ?? '')
const title = computed(() => (fresh.value ? `New ${kind.value.replace(/-/g, ' ')}` : String(valueAt(before.value, `${kind.value}.title`) ?? name.value)))
</script>

<template>
  <Loading :error="data ? null : error" :ready="values !== null" @again="load">
    <form v-if="values" class="stack" @submit.prevent="finish">
      <div v-if="!of" class="row spread">
        <div>
          <p class="small"><RouterLink :to="{ name: listOf(kind).name }">{{ listOf(kind).title }}</RouterLink></p>
          <h1>{{ title }}</h1>
        </div>
        <RouterLink :to="fresh ? { name: 'new-text', params: { kind } } : { name: 'definition', params: { kind, name } }"><el-button tabindex="-1">As text</el-button></RouterLink>
      </div>
      <p v-if="kind === 'report' && !fresh && !of" class="small">When it runs and of which window is on the page of its <RouterLink :to="{ name: 'schedule', params: { name } }">schedule</RouterLink>.</p>
      <section class="stack" :class="{ card: !of }" :aria-label="only ?? title">
        <component :is="index === 1 ? 'details' : 'div'" v-for="(part, index) in [main, more]" v-show="part.length" :key="index">
          <summary v-if="index === 1">More settings</summary>
          <div class="fields">
            <template v-for="field in part" :key="field.key">
              <h2 v-if="field.heading && !only">{{ field.heading }}</h2>
              <component :is="alone.includes(field.as) ? 'div' : 'label'" class="field" :class="{ wide: wide.includes(field.as) }">
                <span v-if="!['audiences', 'audiences-from', 'truth'].includes(field.as)" class="small">{{ field.title }}<span v-if="!field.needed && field.as !== 'choice'" class="muted"> (optional)</span></span>
                <FieldInput v-model="values[field.key]!" :field="field" :people="people" :dashboards="dashboards ?? []" :chosen="chosen" :sources="sources ?? []" :names="names ?? []" :disabled="!fresh && field.key === nameKey" />
                <span v-if="field.as === 'secret'" class="muted small">{{ field.hint }} {{ isReference(storedAs(field)) ? 'Stored elsewhere and only referred to here; enter another to replace it.' : 'Stored encrypted, and never shown again.' }}</span>
                <span v-else-if="field.hint" class="muted small">{{ field.hint }}</span>
                <span v-if="wrong.at[field.key]" class="wrong small" role="alert">◆ {{ wrong.at[field.key] }}</span>
              </component>
            </template>
          </div>
        </component>
        <p v-for="(one, index) in wrong.rest" :key="index" class="wrong" role="alert">◆ {{ one }}</p>
        <div class="row">
          <el-button type="primary" native-type="submit" :loading="saving" :disabled="open.length > 0">{{ kind === 'source' ? 'Save and test' : 'Save' }}</el-button>
          <el-button @click="of ? emit('close') : router.back()">Cancel</el-button>
          <el-button v-if="!fresh && !of" type="danger" plain @click="remove">Remove</el-button>
          <span v-if="open.length" class="muted small">Still to be given: {{ open.join(', ') }}.</span>
        </div>
      </section>
      <MessagePreview v-if="mail && now" :report="name" :keys="now" />
      <section v-if="kind === 'theme'" class="card" aria-label="A sample in this theme" aria-live="polite">
        <img v-if="picture" class="sample" :src="picture" alt="The first page of a sample report in this theme" />
        <p v-else class="muted">The sample is being drawn …</p>
      </section>
      <section v-if="kind === 'source' && !fresh" class="card stack" aria-label="Test" aria-live="polite">
        <div class="row"><el-button :loading="testing" @click="test">Test</el-button><span v-if="testing" class="muted">Asking …</span></div>
        <template v-if="tested">
          <p :class="tested.works ? 'well' : 'wrong'">{{ tested.works ? '● It works' : '◆ It refuses' }}: {{ tested.detail }} ({{ tested.milliseconds }} ms)</p>
          <p v-if="tested.warning" class="small">▲ {{ tested.warning }}</p>
          <p v-if="tested.works"><RouterLink :to="{ name: 'templates', query: { kind: String(values['source.kind'] ?? '') } }">Ready-made reports for it</RouterLink> · <RouterLink :to="{ name: 'query', params: { name } }">Browse and query</RouterLink></p>
        </template>
      </section>
    </form>
  </Loading>
</template>

<style scoped>
p { margin: 0; }
.fields { display: grid; grid-template-columns: repeat(auto-fill, minmax(17rem, 1fr)); gap: 1rem 1.2rem; align-items: start; }
.fields > label, .field { display: grid; grid-template-columns: minmax(0, 1fr); gap: 0.3rem; align-content: start; min-width: 0; }
h2 { grid-column: 1 / -1; margin: 0.6rem 0 0; }
.wide { grid-column: 1 / -1; }
.wrong { color: var(--critical); overflow-wrap: anywhere; }
.well { color: var(--ok); font-weight: 600; }
.sample { width: 100%; max-width: 34rem; display: block; border: 1px solid var(--line); }
details summary { cursor: pointer; margin-bottom: 0.7rem; }
</style>
