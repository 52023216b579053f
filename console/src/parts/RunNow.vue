<script setup lang="ts">
import { computed, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, follow, take, type ReportView, type RunView } from '../api/client'
import { complain } from '../complain'
import StateMark from './StateMark.vue'
import { progress } from '../words'

const props = defineProps<{ report: ReportView }>()
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const run = ref<RunView | null>(null)
const asking = ref(false)
const busy = computed(() => asking.value || (run.value !== null && !run.value.settled))
let stop: (() => void) | undefined
onUnmounted(() => stop?.())

async function begin(deliver: boolean) {
  asking.value = true
  try {
    const begun = await take(api.POST('/reports/{name}/runs', { params: { path: { name: props.report.name } }, body: { deliver } }))
    run.value = begun
    stop?.()
    stop = follow(begun.id, (now) => {
      run.value = now
      if (now.settled) {
        emit('changed')
        // How it went stands beside the button; only what went wrong is worth a word on top.
        if (!now.good) complain(`${now.title}: ${now.problem ?? now.state}`)
      }
    })
  } catch (error) {
    complain(error)
  } finally {
    asking.value = false
  }
}

const done = computed(() => (run.value ? progress(run.value.state, run.value.steps.filter((step) => step.ended_at).length) : 0))
</script>

<template>
  <div class="now">
    <div class="row buttons">
      <el-button type="primary" plain size="small" :loading="busy" @click="begin(true)">Run and send</el-button>
      <el-button size="small" :disabled="busy" @click="begin(false)">Run without sending</el-button>
    </div>
    <div v-if="run" class="progress" aria-live="polite">
      <el-progress v-if="!run.settled" :percentage="done" :show-text="false" :stroke-width="6" />
      <a :href="`/runs/${run.id}`" @click.prevent="router.push({ name: 'run', params: { id: run.id } })"><StateMark :state="run.state" /></a>
    </div>
  </div>
</template>

<style scoped>
.now { display: grid; gap: 0.4rem; justify-items: start; }
.buttons { gap: 0.4rem; flex-wrap: nowrap; }
.buttons .el-button + .el-button { margin-left: 0; }
.progress { width: 100%; display: grid; gap: 0.25rem; }
</style>
