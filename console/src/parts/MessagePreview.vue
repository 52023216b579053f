<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, ApiProblem, take, type Schemas } from '../api/client'

// The subject and the message of a report as its recipients would get them, with the values
// of its latest run.
const props = defineProps<{ report: string; text: string }>()
const preview = ref<Schemas['MessagePreview'] | null>(null)
const wrong = ref('')

/** A text of one key in one table of a TOML file; enough for a preview, not for more. */
function valueOf(table: string, key: string): string | null {
  const from = new RegExp(`^\\[${table}\\][^\\n]*\\n`, 'm').exec(props.text)
  if (!from) return null
  const rest = props.text.slice(from.index + from[0].length)
  const body = rest.slice(0, /^\[/m.exec(rest)?.index ?? rest.length)
  const long = new RegExp(`^${key}\\s*=\\s*"""\\n?([\\s\\S]*?)"""`, 'm').exec(body)
  if (long) return long[1] ?? ''
  const short = new RegExp(`^${key}\\s*=\\s*("(?:[^"\\\\]|\\\\.)*")`, 'm').exec(body)
  try {
    return short?.[1] ? (JSON.parse(short[1]) as string) : null
  } catch {
    return null
  }
}

let asked = 0
let timer: ReturnType<typeof setTimeout> | undefined
watch(
  () => props.text,
  () => {
    clearTimeout(timer)
    const mine = ++asked
    timer = setTimeout(async () => {
      const body = { subject: valueOf('message', 'subject') ?? '{{ report.title }}: {{ window.label }}', text: valueOf('message', 'text') ?? '', body: valueOf('deliver', 'body') }
      try {
        const found = await take(api.POST('/reports/{name}/message-preview', { params: { path: { name: props.report } }, body }))
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
