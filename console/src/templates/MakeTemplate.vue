<script setup lang="ts">
// Makes a template of a dashboard, so that others use it with their own source and values.
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, take } from '../api/client'
import { nameIn, nameOf } from '../forms/fields'

const props = defineProps<{ dashboard: string; title: string }>()
const PURPOSES = ['availability', 'capacity', 'performance', 'unit', 'inventory', 'security', 'jobs', 'delivery']
const router = useRouter()
const open = ref(false)
const title = ref('')
const question = ref('')
const purpose = ref('capacity')
const inputs = ref<{ name: string; value: string }[]>([])
const busy = ref(false)
const wrong = ref('')

function begin() {
  title.value = props.title
  question.value = ''
  inputs.value = []
  wrong.value = ''
  open.value = true
}
async function make() {
  busy.value = true
  wrong.value = ''
  try {
    const given = inputs.value.filter((one) => one.name.trim() && one.value.trim()).map((one) => [one.name.trim(), one.value.trim()])
    const made = await take(api.POST('/dashboards/{name}/template', { params: { path: { name: props.dashboard } }, body: { name: nameOf(title.value), title: title.value, question: question.value, purpose: purpose.value, inputs: Object.fromEntries(given) } }))
    open.value = false
    await router.push({ name: 'template', params: { name: nameIn(made.file) } })
  } catch (problem) {
    wrong.value = problem instanceof Error ? problem.message : String(problem)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <el-button size="small" @click="begin">Make a template</el-button>
  <el-dialog v-model="open" title="Make a template of this dashboard" width="min(34rem, 94vw)" append-to="#dialogs">
    <form class="stack" @submit.prevent="make">
      <label><span class="small">Title</span><el-input v-model="title" aria-label="Title of the template" required /></label>
      <label><span class="small">The question that it answers</span><el-input v-model="question" placeholder="Which kiosks fail most?" aria-label="The question that it answers" required /></label>
      <label><span class="small">Purpose</span><el-select v-model="purpose" aria-label="Purpose"><el-option v-for="one in PURPOSES" :key="one" :value="one" :label="one" /></el-select></label>
      <div class="stack inputs">
        <p class="small">The source becomes a gap. So does every text that is exactly one of these values:</p>
        <div v-for="(one, index) in inputs" :key="index" class="row">
          <el-input v-model="one.name" class="half" placeholder="Input, such as table" :aria-label="`Name of input ${index + 1}`" />
          <el-input v-model="one.value" class="half" placeholder="Value, such as kiosk_sales" :aria-label="`Value of input ${index + 1}`" />
          <el-button :aria-label="`Remove input ${index + 1}`" @click="inputs.splice(index, 1)">Remove</el-button>
        </div>
        <div><el-button size="small" @click="inputs.push({ name: '', value: '' })">Add an input</el-button></div>
      </div>
      <p v-if="wrong" role="alert" class="wrong">◆ {{ wrong }}</p>
      <div class="row end"><el-button @click="open = false">Cancel</el-button><el-button type="primary" native-type="submit" :loading="busy" :disabled="!nameOf(title) || !question.trim()">Make the template</el-button></div>
    </form>
  </el-dialog>
</template>

<style scoped>
p { margin: 0; }
form > label { display: grid; gap: 0.3rem; }
.inputs { gap: 0.6rem; }
.half { flex: 1; }
.end { justify-content: flex-end; }
.wrong { color: var(--critical); overflow-wrap: anywhere; }
</style>
