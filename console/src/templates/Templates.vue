<script setup lang="ts">
// The catalogue of ready-made reports. What is searched for stands in the address.
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, take } from '../api/client'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { sourceKind } from '../forms/sources'
import { grouped } from './order'
import Sketch from './Sketch.vue'

const route = useRoute()
const router = useRouter()
const { data, error, load } = useLoaded(() => take(api.GET('/templates')))
const { data: updates } = useLoaded(() => take(api.GET('/template-updates')))
const asked = (key: string) => computed({ get: () => String(route.query[key] ?? ''), set: (value: string) => void router.replace({ query: { ...route.query, [key]: value || undefined } }) })
const search = asked('search')
const kind = asked('kind')
const kinds = computed(() => [...new Set(data.value?.map((one) => one.source_kind))].sort())
const groups = computed(() => grouped(data.value ?? [], search.value, kind.value))
</script>

<template>
  <div class="stack">
    <div>
      <h1>Ready-made reports</h1>
      <p class="muted">Pick the question that you want answered, choose a source, look at it with your own data, and have it sent.</p>
    </div>
    <section v-if="updates?.length" class="card" aria-label="Newer versions">
      <p v-for="one in updates" :key="one.dashboard">The template of <RouterLink :to="{ name: 'dashboard', params: { name: one.dashboard } }">{{ one.title }}</RouterLink> has a newer version ({{ one.latest }} instead of {{ one.version }}). <code>maple-lark templates --update {{ one.dashboard }}</code> brings it up to date.</p>
    </section>
    <div class="row">
      <el-input v-model="search" class="search" clearable placeholder="Search, such as disk or certificate" aria-label="Search" />
      <el-select v-model="kind" class="kind" clearable placeholder="Any kind of source" aria-label="Kind of source"><el-option v-for="one in kinds" :key="one" :value="one" :label="sourceKind(one)" /></el-select>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <p v-if="!groups.length" class="card">Nothing is like this. <a href="#" @click.prevent="router.replace({ query: {} })">Show all</a></p>
      <section v-for="group in groups" :key="group.title" class="stack" :aria-label="group.title">
        <h2>{{ group.title }}</h2>
        <ul class="cards">
          <li v-for="one in group.templates" :key="one.name" class="card">
            <Sketch :blocks="one.blocks" />
            <div>
              <h3><RouterLink :to="{ name: 'template', params: { name: one.name } }">{{ one.title }}</RouterLink></h3>
              <p>{{ one.question }}</p>
              <p class="muted small">{{ sourceKind(one.source_kind) }}<template v-if="one.own"> · yours</template><template v-if="one.used_by.length"> · used {{ one.used_by.length === 1 ? 'once' : `${one.used_by.length} times` }}</template></p>
            </div>
          </li>
        </ul>
      </section>
    </Loading>
  </div>
</template>

<style scoped>
p, h2, h3 { margin: 0; }
h3 { font-size: 1rem; margin-bottom: 0.25rem; }
.search { max-width: 22rem; }
.kind { width: 13rem; }
.cards { list-style: none; margin: 0; padding: 0; display: grid; grid-template-columns: repeat(auto-fill, minmax(21rem, 1fr)); gap: 1.1rem; }
.cards li { display: grid; grid-template-columns: 8rem 1fr; gap: 1rem; align-items: start; position: relative; }
.cards h3 a { text-decoration: none; }
.cards h3 a::after { content: ''; position: absolute; inset: 0; border-radius: 10px; }
.cards li:hover, .cards li:focus-within { border-color: var(--sea); }
@media (max-width: 760px) { .cards { grid-template-columns: minmax(0, 1fr); } .cards li { grid-template-columns: 6rem 1fr; } }
</style>
