<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import type { Keys } from '../forms/field'
import { valueAt } from '../forms/fields'

// The subject and the message of a report as its recipients would get them, with the values
// of its latest run.
const props = defineProps<{ report: string; text?: string; keys?: Keys }>()
const preview = ref<Schemas['MessagePreview'] | null>(null)
const wrong = ref('')

/** What the message is made of; of a text, the service says which keys it has. */
async function message() {
  const keys = props.keys ?? ((await take(api.POST('/definitions/draft', { body: { text: props.text ?? '' } }))).keys as Keys | null) ?? {}
  const text = (key: string) => (typeof valueAt(keys, key) === 'string' ? String(valueAt(keys, key)) : null)
  return { subject: text('message.subject'), text: text('message.text'), template: text('message.template'), body: text('deliver.body') }
}

let asked = 0
let timer: ReturnType<typeof setTimeout> | undefined
watch(
  () => [props.text, JSON.stringify(props.keys)],
  () => {
    clearTimeout(timer)
    const mine = ++asked
    timer = setTimeout(async () => {
      try {
        const found = await take(api.POST('/reports/{name}/message-preview', { params: { path: { name: props.report } }, body: await message() }))
        if (mine === asked) [preview.value, wrong.value] = [found, '']
      } catch (problem) {
        if (mine === asked) wrong.value = problem instanceof ApiProblem ? problem.message : String(problem)
      }
    }, 400)
  },
  { immediate: true },
)
</script>

<template>
  <section class="card stack" aria-labelledby="mail">
    <h2 id="mail">As a mail</h2>
    <p v-if="wrong" class="muted" role="status">{{ wrong }}</p>
    <template v-if="preview">
      <p class="subject"><span class="muted small">Subject</span><br /><strong>{{ preview.subject }}</strong></p>
      <iframe v-if="preview.html" class="mail" sandbox="" :srcdoc="preview.html" title="The mail as it would be" />
      <pre v-else class="plain">{{ preview.text }}</pre>
      <p class="muted small">With the values of {{ preview.window }}.</p>
      <details v-if="Object.keys(preview.figures).length"><summary>Figures that a message can name</summary>
        <dl class="facts small"><template v-for="(value, key) in preview.figures" :key="key"><dt><code>figures.{{ key }}</code></dt><dd>{{ value }}</dd></template></dl>
      </details>
    </template>
  </section>
</template>

<style scoped>
h2, p { margin: 0; }
.mail { width: 100%; height: 30rem; border: 1px solid var(--rule, #d5dde3); background: #fff; border-radius: 6px; }
.plain { white-space: pre-wrap; max-height: 24rem; overflow: auto; font-size: 0.85rem; }
summary { cursor: pointer; color: var(--sea); }
</style>
