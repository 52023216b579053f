<script setup lang="ts">
// The agenda in a calendar program: an address of one's own, shown once and revoked at will.
import { ElMessageBox } from 'element-plus'
import { computed, ref } from 'vue'

import { api, take } from '../api/client'
import { complain } from '../complain'
import { instant } from '../words'
import { useLoaded } from './load'

const open = ref(false)
const address = ref('')
const { data: tokens, load } = useLoaded(() => take(api.GET('/tokens')))
const feeds = computed(() => (tokens.value ?? []).filter((one) => one.scope === 'agenda'))
async function make() {
  try {
    address.value = (await take(api.POST('/agenda/feed'))).address
    await load()
  } catch (problem) {
    complain(problem)
  }
}
async function revoke(id: string) {
  const sure = await ElMessageBox.confirm('The calendar programs that use it see nothing from now on.', 'Revoke this address?', { confirmButtonText: 'Revoke', cancelButtonText: 'Cancel', type: 'warning' }).then(() => true, () => false)
  if (!sure) return
  try {
    await take(api.DELETE('/tokens/{id}', { params: { path: { id } } }))
    address.value = ''
    await load()
  } catch (problem) {
    complain(problem)
  }
}
</script>

<template>
  <el-button @click="open = true">Subscribe …</el-button>
  <el-dialog v-model="open" title="The agenda in your calendar program" width="min(36rem, 94vw)" @closed="address = ''">
    <div class="stack">
      <p>Any calendar program can subscribe to the agenda at an address of yours. Whoever has the address sees the agenda and nothing else.</p>
      <template v-if="address">
        <p><strong>Copy it now; it is not shown again.</strong></p>
        <el-input :model-value="address" readonly aria-label="Address of the calendar" @focus="($event.target as HTMLInputElement).select()" />
      </template>
      <div v-else><el-button type="primary" @click="make">Make an address</el-button></div>
      <table v-if="feeds.length" class="list">
        <thead><tr><th>Made</th><th>Last read</th><th><span class="muted">Actions</span></th></tr></thead>
        <tbody><tr v-for="one in feeds" :key="one.id"><td>{{ instant(one.created_at) }}</td><td>{{ one.last_used_at ? instant(one.last_used_at) : 'never' }}</td><td><el-button size="small" @click="revoke(one.id)">Revoke</el-button></td></tr></tbody>
      </table>
    </div>
  </el-dialog>
</template>

<style scoped>
p { margin: 0; }
</style>
