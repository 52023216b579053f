<script setup lang="ts">
// The foot of every page: which program this is, and by which rules of time zones it works.
import { api, take } from '../api/client'
import { isAdministrator } from '../session'
import { rulesInWords } from '../words'
import { useLoaded } from './load'

const { data } = useLoaded(() => take(api.GET('/about')))
</script>

<template>
  <footer v-if="data" class="about muted small">
    <span>Maple Lark {{ data.version }}</span>
    <RouterLink v-if="isAdministrator" to="/condition">Condition</RouterLink>
    <span v-if="data.clock" class="old" role="status">{{ data.clock[0].toUpperCase() + data.clock.slice(1) }}</span>
    <span :class="{ old: data.zone_rules.old }">{{ rulesInWords(data.zone_rules) }}</span>
  </footer>
</template>

<style scoped>
.about { max-width: 76rem; margin: 0 auto; padding: 0 1.5rem 1.5rem; display: flex; flex-wrap: wrap; gap: 0.3rem 1.2rem; }
.old { color: var(--warning); font-weight: 600; }
</style>
