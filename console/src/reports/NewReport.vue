<script setup lang="ts">
// What is to be sent? The answers lead to where a report of that kind is made.
const ways = [
  { to: { name: 'templates' }, title: 'Something ready-made', words: 'Pick a question that is often asked, choose a source, and look at the answer with your own data.' },
  { to: { name: 'new-page-report' }, title: 'A page I already have', words: 'A live dashboard or status page, behind a sign-in or not: kept as it looks, for the window you want.' },
  { to: { name: 'new', params: { kind: 'report' } }, title: 'Dashboards of this place', words: 'One or more that are here already, with their own window, formats and audiences.' },
  { to: { name: 'new-dashboard' }, title: 'A new dashboard', words: 'Composed of charts, tables and figures from your sources.' },
]
</script>

<template>
  <div class="stack page">
    <header>
      <h1>New report</h1>
      <p class="muted">What is to be sent?</p>
    </header>
    <ul class="ways">
      <li v-for="way in ways" :key="way.title"><RouterLink :to="way.to" class="card"><strong>{{ way.title }}</strong><span class="muted small">{{ way.words }}</span></RouterLink></li>
    </ul>
  </div>
</template>

<style scoped>
.page { max-width: 60rem; }
h1, p { margin: 0; }
.ways { list-style: none; margin: 0; padding: 0; display: grid; grid-template-columns: repeat(auto-fit, minmax(13rem, 1fr)); gap: 1rem; }
.ways a { display: grid; gap: 0.35rem; height: 100%; align-content: start; color: inherit; text-decoration: none; }
.ways a:hover, .ways a:focus-visible { outline: 2px solid var(--sea); outline-offset: 2px; }
.ways strong { color: var(--sea); }
</style>
