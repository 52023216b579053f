<script setup lang="ts">
// Keeps a run for good, and says who does, and why.
import { ElMessageBox } from 'element-plus'
import { computed } from 'vue'

import { api, take, type RunView } from '../api/client'
import { complain } from '../complain'
import { isAdministrator, isAuthor, user } from '../session'
import { instant } from '../words'

const { run } = defineProps<{ run: RunView }>()
const emit = defineEmits<{ changed: [now: RunView] }>()
const path = computed(() => ({ path: { id: run.id } }))
const mayLetGo = computed(() => isAdministrator.value || user.value?.name === run.kept?.by)

async function keep() {
  const answer = await ElMessageBox.prompt('Nothing of this run goes then, whatever the terms say.', 'Keep this run for good', { confirmButtonText: 'Keep', cancelButtonText: 'Cancel', inputPlaceholder: 'Why? Such as: audit of 2026', inputValidator: (text) => Boolean(text?.trim()) || 'Say why, for whoever asks later.' }).catch(() => null)
  if (!answer) return
  await take(api.PUT('/runs/{id}/keep', { params: path.value, body: { because: answer.value } })).then((now) => emit('changed', now), complain)
}
async function letGo() {
  await take(api.DELETE('/runs/{id}/keep', { params: path.value })).then((now) => emit('changed', now), complain)
}
</script>

<template>
  <p v-if="run.kept" class="small kept">Kept for good by {{ run.kept.by }} since {{ instant(run.kept.at) }}: {{ run.kept.because }}. <el-button v-if="mayLetGo" size="small" @click="letGo">Keep no longer</el-button></p>
  <el-button v-else-if="isAuthor" size="small" @click="keep">Keep for good …</el-button>
</template>

<style scoped>
.kept { margin: 0; }
</style>
