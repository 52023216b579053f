<script setup lang="ts">
// What a report will do, in one sentence; each part opens what it says, in place.
import { computed, nextTick, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, take, type ReportView } from '../api/client'
import Form from '../forms/Form.vue'
import type { Keys } from '../forms/field'
import { useLoaded } from '../parts/load'
import { rest, sentence } from './sentence'

const props = defineProps<{ report: ReportView; may: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const router = useRouter()
const { data: dashboards } = useLoaded(() => take(api.GET('/dashboards')))
const { data: found, load } = useLoaded(() => (props.may ? take(api.GET('/definitions/{kind}/{name}/keys', { params: { path: { kind: 'report', name: props.report.name } } })) : Promise.resolve(null)))
const keys = computed(() => (found.value?.keys ?? {}) as Keys)
const parts = computed(() => sentence(props.report, props.report.dashboards.map((name) => dashboards.value?.find((one) => one.name === name)?.title ?? name), keys.value))
const open = ref<string | null>(null)
const box = ref<HTMLElement | null>(null)
let from: HTMLElement | null = null

async function press(opens: string, event: Event) {
  if (opens === 'schedule') {
    await router.push({ name: 'schedule', params: { name: props.report.name } })
    return
  }
  from = event.currentTarget as HTMLElement
  open.value = open.value === opens ? null : opens
  await nextTick()
  box.value?.focus()
}
async function close() {
  open.value = null
  await nextTick()
  from?.focus()
}
async function saved() {
  await close()
  await load()
  emit('changed')
}
</script>

<template>
  <section class="card stack" aria-label="What will happen">
    <p class="sentence"><template v-for="(part, index) in parts" :key="index"><button v-if="part.opens && may" type="button" :class="{ gap: part.gap }" :aria-expanded="part.opens === 'schedule' ? undefined : open === part.opens" @click="press(part.opens, $event)">{{ part.text }}</button><strong v-else-if="part.opens">{{ part.text }}</strong><template v-else>{{ part.text }}</template></template></p>
    <p v-if="may" class="small muted also">And also: <template v-for="(one, index) in rest(keys)" :key="one.opens">{{ index ? ', ' : '' }}<button type="button" :aria-expanded="open === one.opens" @click="press(one.opens, $event)">{{ one.text }}</button></template>.</p>
    <div v-if="open" ref="box" class="part stack" tabindex="-1" role="group" :aria-label="open" @keydown.esc="close">
      <h2>{{ open }}</h2>
      <Form :key="open" :of="{ kind: 'report', name: report.name }" :only="open" @saved="saved" @close="close" />
    </div>
  </section>
</template>

<style scoped>
p, h2 { margin: 0; }
.sentence { font-size: 1.12rem; line-height: 1.75; }
button { all: unset; cursor: pointer; font-weight: 600; color: var(--sea); border-bottom: 2px solid var(--line); }
.also button { font-weight: 400; border-bottom-width: 1px; }
button:hover, button[aria-expanded='true'] { border-color: var(--sea); }
button:focus-visible { outline: 2px solid var(--sea); outline-offset: 2px; border-radius: 3px; }
button.gap { color: var(--critical); border-bottom-style: dashed; }
.part { border-top: 1px solid var(--line); padding-top: 0.9rem; }
.part:focus { outline: none; }
</style>
