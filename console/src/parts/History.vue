<script setup lang="ts">
import { ElMessageBox } from 'element-plus'
import { ref, watch } from 'vue'

import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import { instant, lineCounts, savedFrom } from '../words'

/** Every save of a definition: who, when, with what, and what it changed. */
const props = defineProps<{ kind: string; name: string }>()
const emit = defineEmits<{ restored: [] }>()
const items = ref<Schemas['DefinitionVersion'][]>([])
const more = ref(false)
const problem = ref('')
const busy = ref(false)
let page = 0

async function load(further: boolean) {
  busy.value = true
  try {
    page = further ? page + 1 : 1
    const found = await take(api.GET('/definitions/{kind}/{name}/versions', { params: { path: { kind: props.kind, name: props.name }, query: { page, size: 10 } } }))
    items.value = further ? [...items.value, ...found.items] : found.items
    more.value = found.items.length === found.size
    problem.value = ''
  } catch (error) {
    problem.value = error instanceof Error ? error.message : String(error)
  } finally {
    busy.value = false
  }
}
watch(() => [props.kind, props.name], () => load(false), { immediate: true })

async function restore(one: Schemas['DefinitionVersion']) {
  const sure = await ElMessageBox.confirm('This saves a new version; the versions in between stay.', `Restore version ${one.version}?`, { confirmButtonText: 'Restore', cancelButtonText: 'Cancel' }).then(() => true, () => false)
  if (!sure) return
  busy.value = true
  try {
    await take(api.POST('/definitions/{kind}/{name}/versions/{version}/restore', { params: { path: { kind: props.kind, name: props.name, version: one.version } } }))
    emit('restored')
    await load(false)
  } catch (error) {
    complain(error)
  } finally {
    busy.value = false
  }
}
const lineClass = (line: string) => (line.startsWith('+') ? 'plus' : line.startsWith('-') ? 'minus' : 'same')
</script>

<template>
  <section class="card" aria-labelledby="history">
    <h2 id="history">History</h2>
    <p v-if="problem" role="alert">{{ problem }}</p>
    <p v-else-if="!items.length && !busy" class="muted">No versions yet.</p>
    <details v-for="(one, index) in items" :key="one.version" class="version">
      <summary>
        <strong>Version {{ one.version }}</strong><span v-if="index === 0" class="muted"> (current)</span>
        · {{ instant(one.saved_at) }} · {{ one.saved_by }}, {{ savedFrom(one.saved_from) }}
        <span class="muted">· {{ one.removed ? 'removed' : lineCounts(one.diff) }}<template v-if="one.message"> · {{ one.message }}</template></span>
      </summary>
      <pre class="diff"><span v-for="(line, place) in one.diff.split('\n')" :key="place" :class="lineClass(line)">{{ line }}
</span></pre>
      <el-button v-if="index > 0 && !one.removed" size="small" :loading="busy" @click="restore(one)">Restore version {{ one.version }} …</el-button>
    </details>
    <el-button v-if="more" size="small" :loading="busy" class="more" @click="load(true)">Show earlier versions</el-button>
  </section>
</template>

<style scoped>
.version { padding: 0.35rem 0; border-top: 1px solid var(--rule, #d5dde3); }
.version summary { cursor: pointer; overflow-wrap: anywhere; }
.diff { margin: 0.5rem 0; font: 0.8rem/1.5 ui-monospace, 'DejaVu Sans Mono', monospace; overflow-x: auto; max-height: 24rem; }
.diff .plus { color: var(--ok); }
.diff .minus { color: var(--critical); }
.diff .same { color: var(--muted); }
.more { margin-top: 0.6rem; }
</style>
