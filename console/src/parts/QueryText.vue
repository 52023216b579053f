<script setup lang="ts">
// A field for a query in TOML, coloured while it is written: the letters are the field's, the
// colours lie behind them.
import hljs from 'highlight.js/lib/core'
import ini from 'highlight.js/lib/languages/ini'
import sql from 'highlight.js/lib/languages/sql'
import { computed, ref } from 'vue'

hljs.registerLanguage('sql', sql)
hljs.registerLanguage('toml', ini)

const text = defineModel<string>({ required: true })
defineProps<{ label: string }>()
const back = ref<HTMLElement | null>(null)

/** TOML, with what stands between its triple quotes as SQL. Both are escaped by the colouring. */
const coloured = computed(() =>
  text.value
    .split(/("""[\s\S]*?""")/)
    .map((part) =>
      part.startsWith('"""') && part.endsWith('"""') && part.length >= 6
        ? `<span class="hljs-string">"""</span>${hljs.highlight(part.slice(3, -3), { language: 'sql' }).value}<span class="hljs-string">"""</span>`
        : hljs.highlight(part, { language: 'toml' }).value,
    )
    .join(''),
)

function scroll(event: Event) {
  const field = event.target as HTMLTextAreaElement
  if (back.value) [back.value.scrollTop, back.value.scrollLeft] = [field.scrollTop, field.scrollLeft]
}
</script>

<template>
  <div class="field">
    <!-- eslint-disable-next-line vue/no-v-html -->
    <pre ref="back" aria-hidden="true" v-html="coloured + '\n'"></pre>
    <textarea v-model="text" :aria-label="label" spellcheck="false" autocapitalize="off" autocomplete="off" @scroll="scroll"></textarea>
  </div>
</template>

<style scoped>
.field { position: relative; border: 1px solid var(--line); border-radius: 6px; background: var(--paper); height: 14rem; resize: vertical; overflow: hidden; }
.field:focus-within { border-color: var(--sea); }
.field > * { position: absolute; inset: 0; width: 100%; height: 100%; margin: 0; padding: 0.7rem 0.85rem; border: 0; font: 0.84rem/1.55 ui-monospace, 'DejaVu Sans Mono', monospace; white-space: pre; overflow: auto; tab-size: 2; }
textarea { background: transparent; color: transparent; caret-color: var(--ink); resize: none; outline-offset: -2px; }
pre { color: var(--ink); pointer-events: none; scrollbar-color: transparent transparent; }
pre :deep(.hljs-keyword), pre :deep(.hljs-built_in), pre :deep(.hljs-section) { color: var(--sea); font-weight: 600; }
pre :deep(.hljs-string) { color: var(--ok); }
pre :deep(.hljs-number), pre :deep(.hljs-literal) { color: var(--warning); }
pre :deep(.hljs-attr) { color: var(--running); }
pre :deep(.hljs-comment) { color: var(--muted); font-style: italic; }
</style>
