<script setup lang="ts">
import { computed } from 'vue'

import { stateWords, type State } from '../words'

const props = defineProps<{ state: State; word?: string }>()
const words = computed(() => stateWords(props.state))
</script>

<template>
  <span class="state" :class="words.tone"><span class="mark" aria-hidden="true">{{ words.mark }}</span>{{ word ?? words.word }}</span>
</template>

<style scoped>
.state { white-space: nowrap; font-weight: 600; font-size: 0.92em; }
.mark { margin-right: 0.4em; }
.ok { color: var(--ok); }
.warning { color: var(--warning); }
.critical { color: var(--critical); }
.running { color: var(--running); }
.running .mark { animation: beat 1.2s infinite; }
.quiet { color: var(--muted); }
@keyframes beat { 50% { opacity: 0.25; } }
</style>
