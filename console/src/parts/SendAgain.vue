<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, take, type RunView } from '../api/client'
import { complain } from '../complain'

const props = defineProps<{ run: RunView }>()
const emit = defineEmits<{ sent: [run: RunView] }>()
const open = ref(false)
const chosen = ref<string[]>([])
const others = ref('')
const audience = ref('')
const note = ref('')
const sending = ref(false)

const first = computed(() => props.run.deliveries.filter((delivery) => delivery.copy === 0))
const audiences = computed(() => [...new Set(first.value.map((delivery) => delivery.audience))])
const addresses = computed(() => others.value.split(/[,;\s]+/).filter(Boolean))
const nothing = computed(() => !chosen.value.length && !addresses.value.length)

function begin() {
  chosen.value = first.value.filter((delivery) => delivery.state === 'refused' || delivery.state === 'bounced').map((delivery) => delivery.id)
  audience.value = audiences.value[0] ?? ''
  others.value = note.value = ''
  open.value = true
}

async function send() {
  sending.value = true
  try {
    const body = { deliveries: chosen.value, to: addresses.value, audience: addresses.value.length ? audience.value : null, note: note.value || null }
    emit('sent', await take(api.POST('/runs/{id}/resends', { params: { path: { id: props.run.id } }, body })))
    open.value = false
  } catch (problem) {
    complain(problem)
  } finally {
    sending.value = false
  }
}
</script>

<template>
  <el-button size="small" @click="begin">Send again …</el-button>
  <el-dialog v-model="open" title="Send this run again" width="min(36rem, 94vw)" append-to="#dialogs">
    <p class="muted">The documents go out unchanged. Each mail says that it is a copy, and who asked for it.</p>
    <el-form label-position="top" @submit.prevent="send">
      <el-form-item label="Who got it">
        <el-select v-model="chosen" multiple filterable collapse-tags :max-collapse-tags="3" placeholder="Nobody of them" aria-label="Who got it">
          <el-option v-for="delivery in first" :key="delivery.id" :value="delivery.id" :label="`${delivery.recipient} (${delivery.audience})`" />
        </el-select>
      </el-form-item>
      <el-form-item label="Somebody else, this one time">
        <el-input v-model="others" placeholder="name@host.example, a person, a group, or me" aria-label="Somebody else, this one time" />
      </el-form-item>
      <el-form-item v-if="audiences.length > 1 && addresses.length" label="They see what this audience sees">
        <el-select v-model="audience" aria-label="They see what this audience sees"><el-option v-for="one in audiences" :key="one" :value="one" :label="one" /></el-select>
      </el-form-item>
      <el-form-item label="A note at the top of the mail">
        <el-input v-model="note" type="textarea" :rows="2" maxlength="2000" aria-label="A note at the top of the mail" />
      </el-form-item>
    </el-form>
    <template #footer>
      <el-button @click="open = false">Cancel</el-button>
      <el-button type="primary" :loading="sending" :disabled="nothing" @click="send">Send {{ chosen.length + addresses.length || '' }} {{ chosen.length + addresses.length === 1 ? 'copy' : 'copies' }}</el-button>
    </template>
  </el-dialog>
</template>

<style scoped>
.el-select { width: 100%; }
p { margin-top: 0; }
</style>
