<script setup lang="ts">
// Publishes a dashboard or the view of a run: whom for, until when, with what to choose from.
import { ElMessage } from 'element-plus'
import { reactive, ref } from 'vue'

import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import { orderOf, whomWords, type Fields, type NewView, type View } from './words'

const props = defineProps<{
  /** What is shown: a dashboard with its window, zone and values, or a snapshot. */
  subject: Partial<NewView>
  title: string
}>()
/** Parameters of a dashboard, whose values can be left to whoever opens it. */
const parameters = ref<Schemas['ParameterChoices'][]>([])
const open = ref(false)
const busy = ref(false)
const problem = ref('')
const made = ref<View | null>(null)
const fields = reactive<Fields>({ title: '', signedIn: false, days: 30, password: '', choices: {} })

function begin() {
  Object.assign(fields, { title: props.title, signedIn: false, days: 30, password: '', choices: {} })
  made.value = null
  problem.value = ''
  open.value = true
  parameters.value = []
  const name = props.subject.dashboard
  if (name) void take(api.POST('/dashboards/{name}/choices', { params: { path: { name } }, body: { values: {} } })).then((found) => (parameters.value = found.filter((one) => one.kind !== 'list')), complain)
}
async function publish() {
  busy.value = true
  problem.value = ''
  try {
    made.value = await take(api.POST('/views', { body: orderOf(props.subject, fields) }))
  } catch (refused) {
    problem.value = refused instanceof Error ? refused.message : String(refused)
  } finally {
    busy.value = false
  }
}
async function copy() {
  await navigator.clipboard.writeText(made.value?.address ?? '').then(
    () => ElMessage({ type: 'success', message: 'Copied.', offset: 72 }),
    () => complain('The browser does not let it be copied; select it instead.'),
  )
}
</script>

<template>
  <el-button size="small" @click="begin">Publish …</el-button>
  <el-dialog v-model="open" title="Publish" width="min(34rem, 94vw)" append-to="#dialogs">
    <div v-if="made" class="stack" role="status">
      <p><strong>Published for {{ whomWords(made) }}.</strong> The page has nothing of an editor around it.</p>
      <div class="row"><code>{{ made.address }}</code><el-button size="small" type="primary" plain @click="copy">Copy</el-button></div>
      <p class="muted small"><RouterLink :to="{ name: 'published' }">What is published</RouterLink> lists it with how often it was opened, and ends it.</p>
    </div>
    <form v-else id="publish" class="stack" @submit.prevent="publish">
      <label>Title<el-input v-model="fields.title" name="title" aria-label="Title" /></label>
      <fieldset>
        <legend>Who opens it</legend>
        <el-radio-group v-model="fields.signedIn" aria-label="Who opens it">
          <el-radio :value="false">Whoever has the address</el-radio>
          <el-radio :value="true">Only who signs in and sees it here</el-radio>
        </el-radio-group>
      </fieldset>
      <label>For how many days<el-input-number v-model="fields.days" :min="1" :max="366" :controls="false" :placeholder="fields.signedIn ? 'until it is ended' : '30'" aria-label="For how many days" /></label>
      <label>Password <span class="muted">(none, if it is empty)</span><el-input v-model="fields.password" name="view-password" type="password" show-password autocomplete="new-password" aria-label="Password" /></label>
      <label v-for="one in parameters" :key="one.name">{{ one.title }}: values to choose from
        <el-select v-model="fields.choices[one.name]" multiple filterable allow-create default-first-option placeholder="as it is shown now" :aria-label="`${one.title}: values to choose from`"><el-option v-for="choice in one.choices" :key="choice.value" :value="choice.value" :label="choice.title" /></el-select>
      </label>
      <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
    </form>
    <template #footer>
      <el-button @click="open = false">{{ made ? 'Close' : 'Cancel' }}</el-button>
      <el-button v-if="!made" type="primary" native-type="submit" form="publish" :loading="busy">Publish</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
form > label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
form > label .muted { font-weight: 400; }
form > label :deep(.el-select) { font-weight: 400; }
fieldset { border: 0; padding: 0; margin: 0; }
legend { font-weight: 600; font-size: 0.9rem; padding: 0; }
.el-radio-group { display: grid; justify-items: start; }
.el-input-number { width: 9rem; }
code { overflow-wrap: anywhere; user-select: all; flex: 1; }
p { margin: 0; }
</style>
