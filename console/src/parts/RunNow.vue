<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { computed, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, follow, take, type ReportView, type RunView } from '../api/client'
import { complain } from '../complain'
import StateMark from './StateMark.vue'
import { progress, whoGets } from '../words'

const props = defineProps<{ report: ReportView; compact?: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const run = ref<RunView | null>(null)
const asking = ref(false)
const busy = computed(() => asking.value || (run.value !== null && !run.value.settled))
let stop: (() => void) | undefined
onUnmounted(() => stop?.())

/** Mail that is out cannot be called back, so it is said first who will have it. */
async function send() {
  const question = `This sends a mail to ${whoGets(props.report)}.`
  const sure = await ElMessageBox.confirm(question, `Run and send “${props.report.title}”?`, { confirmButtonText: 'Run and send', cancelButtonText: 'Cancel' }).then(() => true, () => false)
  if (sure) await begin({ deliver: true, to: [] })
}
/** Nobody else gets it; where audiences have views of their own, one is chosen. */
async function sendToMe() {
  const names = props.report.audiences.map((audience) => audience.name)
  // Who a query names is known only when the report runs, so the name is typed.
  if (names.length < 2 && !props.report.audiences_from.length) return begin({ deliver: true, to: ['me'] })
  chosen.value = names[0] ?? ''
  choosing.value = true
}
const act = (what: 'send' | 'to-me' | 'run') => (what === 'send' ? send() : what === 'to-me' ? sendToMe() : begin({ deliver: false, to: [] }))
const choosing = ref(false)
const chosen = ref('')
const begin = async (order: { deliver: boolean; to: string[]; audience?: string }) => {
  choosing.value = false
  asking.value = true
  try {
    const begun = await take(api.POST('/reports/{name}/runs', { params: { path: { name: props.report.name } }, body: order }))
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
    <el-dropdown v-if="compact" trigger="click" :disabled="busy" @command="act">
      <el-button size="small" :loading="busy" :aria-label="`Run ${report.title}`">Run …</el-button>
      <template #dropdown>
        <el-dropdown-menu>
          <el-dropdown-item v-if="report.audiences.length || report.audiences_from.length" command="send">Run and send …</el-dropdown-item>
          <el-dropdown-item command="to-me">Send to me</el-dropdown-item>
          <el-dropdown-item command="run">Run without sending</el-dropdown-item>
        </el-dropdown-menu>
      </template>
    </el-dropdown>
    <div v-else class="row buttons">
      <el-button v-if="report.audiences.length || report.audiences_from.length" type="primary" plain size="small" :loading="busy" @click="send">Run and send …</el-button>
      <el-button size="small" :disabled="busy" @click="sendToMe">Send to me</el-button>
      <el-button size="small" :disabled="busy" @click="begin({ deliver: false, to: [] })">Run without sending</el-button>
    </div>
    <el-dialog v-model="choosing" :title="`Send “${report.title}” to me`" width="min(26rem, 94vw)" append-to="#dialogs">
      <form @submit.prevent="begin({ deliver: true, to: ['me'], audience: chosen })">
        <el-radio-group v-model="chosen" aria-label="Whose view" class="views">
          <el-radio v-for="audience in report.audiences" :key="audience.name" :value="audience.name">As seen by {{ audience.name }}<span v-if="audience.values.length" class="muted"> ({{ audience.values.join(', ') }})</span></el-radio>
        </el-radio-group>
        <el-input v-if="report.audiences_from.length" v-model="chosen" class="views" required placeholder="Name of an audience, as the query gives it" aria-label="Name of the audience whose view to send" />
        <div class="row end"><el-button @click="choosing = false">Cancel</el-button><el-button type="primary" native-type="submit">Send to me</el-button></div>
      </form>
    </el-dialog>
    <div v-if="run" class="progress" aria-live="polite">
      <el-progress v-if="!run.settled" :percentage="done" :show-text="false" :stroke-width="6" />
      <a :href="`/runs/${run.id}`" @click.prevent="router.push({ name: 'run', params: { id: run.id } })"><StateMark :state="run.state" /></a>
    </div>
  </div>
</template>

<style scoped>
.now { display: grid; gap: 0.4rem; justify-items: start; }
.buttons { gap: 0.4rem; }
.buttons .el-button + .el-button { margin-left: 0; }
.views { display: grid; gap: 0.3rem; justify-items: start; margin-bottom: 1rem; }
.end { justify-content: flex-end; }
.progress { width: 100%; display: grid; gap: 0.25rem; }
</style>
