<script setup lang="ts">
// What to do first where there is nothing yet.
import { mayChange } from '../session'

defineProps<{ sources: number }>()
</script>

<template>
  <section class="card" aria-labelledby="first">
    <h2 id="first">Your first report</h2>
    <ol>
      <li :class="{ done: sources > 0 }">
        <div><strong>Name a source</strong><p class="muted">A database, metrics, files, or checks from this machine. Its test says at once whether it works.</p></div>
        <RouterLink v-if="!sources && mayChange('source')" :to="{ name: 'new', params: { kind: 'source' } }"><el-button type="primary" tabindex="-1">New source</el-button></RouterLink>
        <span v-else-if="!sources" class="muted">An administrator does this.</span>
        <span v-else class="there">● {{ sources === 1 ? 'One source' : `${sources} sources` }}</span>
      </li>
      <li>
        <div><strong>Pick a question</strong><p class="muted">Ready-made reports need no query language: choose one and see it with your own data.</p></div>
        <RouterLink to="/templates"><el-button :type="sources ? 'primary' : ''" tabindex="-1">Ready-made reports</el-button></RouterLink>
      </li>
      <li>
        <div><strong>Have it sent</strong><p class="muted">Say when, in which formats and to whom, and send the first one now.</p></div>
      </li>
    </ol>
    <p class="muted small other">Or <RouterLink to="/sources">ask a source a question of your own</RouterLink>, or bring definitions from a folder: <code>maple-lark apply FOLDER</code>.</p>
  </section>
</template>

<style scoped>
ol { list-style: none; counter-reset: step; margin: 0; padding: 0; }
li { counter-increment: step; display: flex; justify-content: space-between; align-items: center; gap: 1rem; padding: 0.8rem 0; border-bottom: 1px solid var(--line); }
li::before { content: counter(step); flex: none; width: 1.9rem; height: 1.9rem; border-radius: 50%; display: grid; place-items: center; background: var(--ground); border: 1px solid var(--line); font-weight: 600; }
li.done::before { content: '✓'; color: var(--ok); }
li > div { flex: 1; min-width: 0; }
p { margin: 0; }
.there { color: var(--ok); font-weight: 600; white-space: nowrap; }
.other { margin-top: 0.8rem; }
@media (max-width: 760px) { li { flex-wrap: wrap; } }
</style>
