<script setup lang="ts">
// Teams: who is in them, and where their reports may go. Administrators make them; owners say who is in.
import { ElMessageBox } from 'element-plus'
import { reactive, ref } from 'vue'

import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import { nameOf } from '../forms/fields'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { user as me } from '../session'

type Team = Schemas['TeamView']
const runsThePlace = me.value?.role === 'administrator'
const { data, error, load } = useLoaded(() => take(api.GET('/teams')), 30_000)
const { data: users } = useLoaded(() => (runsThePlace ? take(api.GET('/users', { params: { query: { size: 200 } } })) : Promise.resolve(null)))
const making = ref(false)
const fresh = reactive({ title: '', name: '', addresses: '' })
const problem = ref('')
const busy = ref(false)

const patterns = (text: string): string[] => text.split(/[\s,]+/).filter(Boolean)
async function make() {
  busy.value = true
  problem.value = ''
  try {
    const name = fresh.name.trim() || nameOf(fresh.title)
    await take(api.POST('/teams', { body: { name, title: fresh.title.trim() || null, addresses: patterns(fresh.addresses) } }))
    making.value = false
    Object.assign(fresh, { title: '', name: '', addresses: '' })
    if (me.value && !me.value.teams.includes(name)) me.value.teams.push(name)
  } catch (refused) {
    problem.value = refused instanceof Error ? refused.message : String(refused)
  } finally {
    busy.value = false
  }
  await load()
}
async function done(work: () => Promise<unknown>) {
  await work().catch(complain)
  await load()
}
const member = (team: Team, name: string) => ({ params: { path: { name: team.name, user: name } } })
const put = (team: Team, name: string, owner: boolean) => done(() => take(api.PUT('/teams/{name}/members/{user}', { ...member(team, name), body: { owner } })))
const drop = (team: Team, name: string) => done(() => take(api.DELETE('/teams/{name}/members/{user}', member(team, name))))
const at = (team: Team) => ({ params: { path: { name: team.name } } })

async function asked(title: string, words: string, value: string): Promise<string | null> {
  const found = await ElMessageBox.prompt(words, title, { inputValue: value, confirmButtonText: 'Save', cancelButtonText: 'Cancel' }).catch(() => null)
  return found ? (found.value ?? '').trim() : null
}
async function act(team: Team, what: string) {
  if (what === 'add') {
    const name = await asked(`Who is to be in ${team.title}?`, 'The name that they sign in with.', '')
    if (name) await put(team, name, false)
  } else if (what === 'title') {
    const title = await asked(`Title of ${team.name}`, 'What people see.', team.title)
    if (title) await done(() => take(api.PATCH('/teams/{name}', { ...at(team), body: { title } })))
  } else if (what === 'addresses') {
    const addresses = await asked(`Where reports of ${team.title} may go`, 'Patterns such as *@orrin-sound.example, with spaces between them. Leave it empty for any address.', team.addresses.join(' '))
    if (addresses !== null) await done(() => take(api.PATCH('/teams/{name}', { ...at(team), body: { addresses: patterns(addresses) } })))
  } else if (what === 'remove') {
    const yes = await ElMessageBox.confirm('Runs that were made for it are seen by administrators alone then.', `Remove ${team.title}?`, { confirmButtonText: 'Remove', cancelButtonText: 'Cancel' }).then(() => true, () => false)
    if (yes) await done(() => take(api.DELETE('/teams/{name}', at(team))))
  }
}
const others = (team: Team) => (users.value?.items ?? []).filter((one) => !team.members.some((known) => known.name === one.name))
</script>

<template>
  <section class="card stack" aria-labelledby="teams">
    <div class="row spread">
      <h2 id="teams">{{ runsThePlace ? 'Teams' : 'Your teams' }}</h2>
      <el-button v-if="runsThePlace" size="small" @click="making = true">New team</el-button>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <p v-if="!data?.length" class="muted">{{ runsThePlace ? 'None: everybody sees every report. A team’s definitions, and what comes of them, are seen by its members alone.' : 'None.' }}</p>
      <article v-for="team in data" :key="team.name" class="team" :aria-label="team.title">
        <div class="row spread">
          <div><strong>{{ team.title }}</strong> <code>{{ team.name }}</code></div>
          <el-dropdown v-if="team.own" trigger="click" @command="act(team, $event)">
            <el-button size="small" :aria-label="`More for ${team.title}`">More</el-button>
            <template #dropdown>
              <el-dropdown-menu>
                <el-dropdown-item command="add">Add by name</el-dropdown-item>
                <template v-if="runsThePlace">
                  <el-dropdown-item command="title">Title</el-dropdown-item>
                  <el-dropdown-item command="addresses">Where its reports may go</el-dropdown-item>
                  <el-dropdown-item command="remove" divided>Remove</el-dropdown-item>
                </template>
              </el-dropdown-menu>
            </template>
          </el-dropdown>
        </div>
        <p class="muted small">{{ team.definitions === 1 ? '1 definition' : `${team.definitions} definitions` }} · writes to {{ team.addresses.length ? team.addresses.join(', ') : 'any address' }}</p>
        <ul class="members">
          <li v-for="one in team.members" :key="one.name">
            {{ one.name }}<span v-if="one.owner" class="muted"> (owner)</span>
            <template v-if="team.own">
              <el-button link size="small" :aria-label="one.owner ? `no owner of ${team.title} any more: ${one.name}` : `make owner of ${team.title}: ${one.name}`" @click="put(team, one.name, !one.owner)">{{ one.owner ? 'no owner' : 'make owner' }}</el-button>
              <el-button link size="small" :aria-label="`Take ${one.name} out of ${team.title}`" @click="drop(team, one.name)">✕</el-button>
            </template>
          </li>
          <li v-if="!team.members.length" class="muted">nobody yet</li>
          <li v-if="runsThePlace && others(team).length" class="adds">
            <el-select :model-value="undefined" size="small" filterable placeholder="Add somebody" :aria-label="`Add somebody to ${team.title}`" @update:model-value="put(team, $event, false)">
              <el-option v-for="one in others(team)" :key="one.name" :value="one.name" :label="one.name" />
            </el-select>
          </li>
        </ul>
      </article>
    </Loading>
    <el-dialog v-model="making" title="New team" width="min(30rem, 94vw)" append-to="#dialogs">
      <form id="new-team" class="stack" @submit.prevent="make">
        <label>Title<el-input v-model="fresh.title" name="title" aria-label="Title" placeholder="Port operations" /></label>
        <label>Name <span class="muted">(what definitions call it)</span><el-input v-model="fresh.name" name="name" aria-label="Name" :placeholder="nameOf(fresh.title) || 'port-operations'" /></label>
        <label>Addresses that its reports may go to <span class="muted">(any, if empty)</span><el-input v-model="fresh.addresses" name="addresses" aria-label="Addresses that its reports may go to" placeholder="*@orrin-sound.example" /></label>
        <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
      </form>
      <template #footer>
        <el-button @click="making = false">Cancel</el-button>
        <el-button type="primary" native-type="submit" form="new-team" :loading="busy" :disabled="!fresh.title.trim()" @click="make">Make the team</el-button>
      </template>
    </el-dialog>
  </section>
</template>

<style scoped>
.team { border-top: 1px solid var(--line); padding: 0.7rem 0; }
.team p { margin: 0.2rem 0 0.5rem; }
.members { list-style: none; display: flex; flex-wrap: wrap; gap: 0.5rem; padding: 0; margin: 0; align-items: center; }
.members li { border: 1px solid var(--line); border-radius: 1rem; padding: 0.15rem 0.7rem; display: flex; align-items: center; gap: 0.35rem; }
.members li.adds, .members li.muted { border: 0; padding: 0; }
.adds .el-select { width: 11rem; }
p { margin: 0; }
label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
label .muted { font-weight: 400; }
.problem { color: var(--critical); font-weight: 600; }
</style>
