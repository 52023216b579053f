<script setup lang="ts">
import { Calendar, Coin, CopyDocument, DataAnalysis, List, Files, FolderOpened, Message, Moon, Odometer, Promotion, Sunny, SwitchButton, User, Tickets, View } from '@element-plus/icons-vue'
import { computed, ref, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import About from './parts/About.vue'
import { HELD_PAGES, isAdministrator, isAuthor, isHeld, signOut, user } from './session'
import { listOf } from './words'

const route = useRoute()
const router = useRouter()
const dark = ref(localStorage.getItem('look') ? localStorage.getItem('look') === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches)

watchEffect(() => document.documentElement.classList.toggle('dark', dark.value))

function turn() {
  dark.value = !dark.value
  localStorage.setItem('look', dark.value ? 'dark' : 'light')
}

const places = computed(() => all.value.filter((place) => !isHeld.value || HELD_PAGES.includes(place.name)))
const all = computed(() => [
  { name: 'overview', title: 'Overview', icon: Odometer, within: ['overview'] },
  { name: 'reports', title: 'Reports', icon: Files, within: ['reports', 'report', 'schedule'] },
  { name: 'dashboards', title: 'Dashboards', icon: DataAnalysis, within: ['dashboards', 'dashboard', 'edit-dashboard', 'new-dashboard', ...(isAuthor.value ? ['published'] : [])] },
  { name: 'templates', title: 'Ready-made', icon: CopyDocument, within: ['templates', 'template'] },
  { name: 'agenda', title: 'Agenda', icon: Calendar, within: ['agenda'] },
  { name: 'runs', title: 'Runs', icon: List, within: ['runs', 'run'] },
  { name: 'archive', title: 'Archive', icon: FolderOpened, within: ['archive', 'keeping'] },
  { name: 'sources', title: 'Sources', icon: Coin, within: ['sources', 'try'] },
  { name: 'delivery', title: 'Delivery', icon: Promotion, within: ['delivery'] },
  ...(!isAuthor.value ? [{ name: 'published', title: 'Published', icon: View, within: ['published'] }] : []),
  ...(isAuthor.value ? [{ name: 'definitions', title: 'Definitions', icon: Tickets, within: ['definitions'] }] : []),
  ...(isAdministrator.value ? [{ name: 'users', title: 'Users', icon: User, within: ['users', 'audit'] }] : []),
  ...(user.value?.demo ? [{ name: 'mailbox', title: 'Mailbox', icon: Message, within: ['mailbox'] }] : []),
])

// A definition belongs to the page that lists its kind.
const here = computed(() => (route.params.kind ? listOf(String(route.params.kind)).name : String(route.name)))

async function leave() {
  const then = await signOut().catch(() => null)
  // Who signed in at the identity provider signs out there, too.
  if (then) location.assign(then)
  else await router.push({ name: 'sign-in' })
}
</script>

<template>
  <a class="skip" href="#content">Skip to the content</a>
  <div v-if="user && !route.meta.open" class="frame">
    <header class="bar">
      <RouterLink class="brand" to="/"><img src="/mark.svg" alt="" width="28" height="28" /><span>Maple Lark</span></RouterLink>
      <nav aria-label="Main">
        <RouterLink v-for="place in places" :key="place.name" :to="{ name: place.name }" :class="{ here: place.within.includes(here) }" :aria-current="place.within.includes(here) ? 'page' : undefined">
          <el-icon aria-hidden="true"><component :is="place.icon" /></el-icon><span>{{ place.title }}</span>
        </RouterLink>
      </nav>
      <div class="who">
        <button type="button" :aria-label="dark ? 'Use the light look' : 'Use the dark look'" @click="turn">
          <el-icon><Sunny v-if="dark" /><Moon v-else /></el-icon>
        </button>
        <RouterLink class="name" :to="{ name: 'account' }" :title="`Your sign-in (${user.role})`"><el-icon aria-hidden="true"><User /></el-icon><span>{{ user.name }}</span></RouterLink>
        <button type="button" aria-label="Sign out" @click="leave">
          <el-icon><SwitchButton /></el-icon>
        </button>
      </div>
    </header>
    <main id="content" tabindex="-1"><RouterView /></main>
    <About />
  </div>
  <main v-else id="content" tabindex="-1"><RouterView /></main>
</template>

<style scoped>
.skip { position: absolute; left: -999rem; z-index: 10; background: var(--paper); padding: 0.5rem 1rem; }
.skip:focus { left: 0.5rem; top: 0.5rem; }
.bar { background: var(--sea-deep); color: #eaf3f7; display: flex; align-items: center; gap: 1.6rem; padding: 0 1.5rem; min-height: 3.4rem; position: sticky; top: 0; z-index: 5; }
.brand { display: flex; align-items: center; gap: 0.6rem; color: #fff; text-decoration: none; font-weight: 600; font-size: 1.05rem; white-space: nowrap; }
nav { display: flex; gap: 0.25rem; flex: 1; align-self: stretch; overflow-x: auto; }
nav a { color: #c9dde6; text-decoration: none; display: flex; align-items: center; gap: 0.45rem; padding: 0 0.85rem; border-bottom: 3px solid transparent; white-space: nowrap; }
nav a:hover { color: #fff; }
nav a.here { color: #fff; border-bottom-color: var(--lamp); }
.who { display: flex; align-items: center; gap: 0.5rem; }
.who .name { display: flex; gap: 0.35rem; align-items: center; color: inherit; text-decoration: none; padding: 0.35rem; border-radius: 6px; }
.who .name:hover { background: rgb(255 255 255 / 12%); }
.who button { background: none; border: 0; color: inherit; font-size: 1.1rem; padding: 0.45rem; cursor: pointer; display: flex; border-radius: 6px; }
.who button:hover { background: rgb(255 255 255 / 12%); }
.bar :focus-visible { outline-color: var(--lamp); }
.frame main { max-width: 76rem; margin: 0 auto; padding: 1.5rem; }
main:focus { outline: none; }
@media (max-width: 1500px) {
  .bar { gap: 0.9rem; padding: 0 1rem; }
  nav { gap: 0.1rem; }
  nav .el-icon { display: none; }
  nav a { padding: 0 0.48rem; }
}
@media (max-width: 760px) {
  .bar { flex-wrap: wrap; gap: 0 1rem; padding: 0 0.9rem; }
  .bar .brand { padding: 0.7rem 0; flex: 1; }
  .bar nav { order: 3; flex-basis: 100%; min-height: 2.7rem; margin: 0 -0.9rem; padding: 0 0.3rem; }
  nav a { padding: 0 0.55rem; font-size: 0.92rem; }
  nav .el-icon { display: none; }
  .who .name span { display: none; }
  .frame main { padding: 1rem 0.9rem; }
}
</style>
