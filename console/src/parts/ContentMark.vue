<script setup lang="ts">
// How the content of a run was judged, where somebody should see to it. Beside its state: what is
// critical may well have been delivered.
defineProps<{ status?: string | null }>()
const WORDS: Record<string, { mark: string; word: string }> = {
  warning: { mark: '▲', word: 'Warning' },
  critical: { mark: '◆', word: 'Critical' },
}
</script>

<template>
  <span v-if="status && WORDS[status]" class="content" :class="status"><span class="mark" aria-hidden="true">{{ WORDS[status]!.mark }}</span>{{ WORDS[status]!.word }}</span>
</template>

<style scoped>
.content { white-space: nowrap; font-weight: 600; font-size: 0.92em; }
.mark { margin-right: 0.4em; }
.warning { color: var(--warning); }
.critical { color: var(--critical); }
</style>
