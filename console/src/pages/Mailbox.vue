<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { at } from '../api/base'
import { api, take, type Schemas } from '../api/client'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { instant, size } from '../words'

const route = useRoute()
const router = useRouter()
const { data, error, load } = useLoaded(() => take(api.GET('/demo/mailbox')), 4000)
const message = ref<Schemas['ReceivedMessage'] | null>(null)
const plain = ref(false)
const id = computed(() => String(route.params.id ?? ''))

watch(
  id,
  async (id) => {
    message.value = id ? await take(api.GET('/demo/mailbox/{id}', { params: { path: { id } } })).catch(() => null) : null
  },
  { immediate: true },
)
watch(data, (messages) => {
  // On a wide screen the newest message opens by itself.
  if (!id.value && messages?.[0] && matchMedia('(min-width: 761px)').matches) void router.replace({ name: 'mailbox', params: { id: messages[0].id } })
})
</script>

<template>
  <div class="stack">
    <div>
      <h1>Mailbox</h1>
      <p class="muted small note">What the demo’s mail server has taken, whoever it was for.</p>
    </div>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <div v-if="data && !data.length" class="card"><p class="muted">No mail has come yet. Run a report and it will.</p></div>
      <div v-else-if="data" class="panes" :class="{ open: id }">
        <ul class="card messages" aria-label="Messages">
          <li v-for="one in data" :key="one.id">
            <RouterLink :to="{ name: 'mailbox', params: { id: one.id } }" :class="{ here: one.id === id }" :aria-current="one.id === id ? 'true' : undefined">
              <strong>{{ one.subject }}</strong>
              <span class="muted small">to {{ one.to }}</span>
              <span class="muted small">{{ instant(one.received_at) }} · {{ one.attachments }} files · {{ size(one.size) }}</span>
            </RouterLink>
          </li>
        </ul>
        <article v-if="message" class="card stack" aria-label="Message">
          <p class="small back"><RouterLink to="/mailbox">All messages</RouterLink></p>
          <div class="row spread">
            <h2>{{ message.subject }}</h2>
            <el-button size="small" @click="plain = !plain">{{ plain ? 'As HTML' : 'As plain text' }}</el-button>
          </div>
          <dl class="facts small">
            <dt>From</dt><dd>{{ message.from }}</dd>
            <dt>To</dt><dd>{{ message.to }}</dd>
            <dt>Files</dt>
            <dd><span v-for="(file, index) in message.files" :key="file"><a :href="at(`/api/v1/demo/mailbox/${message.id}/files/${index}`)" download>{{ file }}</a>{{ index + 1 < message.files.length ? ', ' : '' }}</span></dd>
          </dl>
          <pre v-if="plain">{{ message.text }}</pre>
          <iframe v-else class="document" :src="at(`/api/v1/demo/mailbox/${message.id}/html`)" title="The message" />
        </article>
      </div>
    </Loading>
  </div>
</template>

<style scoped>
.note { margin: 0.2rem 0 0; }
.panes { display: grid; grid-template-columns: 21rem minmax(0, 1fr); gap: 1.1rem; align-items: start; }
.messages { list-style: none; margin: 0; padding: 0.4rem; max-height: 80vh; overflow-y: auto; }
.messages a { display: grid; gap: 0.1rem; padding: 0.6rem 0.7rem; border-radius: 7px; text-decoration: none; color: inherit; overflow-wrap: anywhere; }
.messages a:hover { background: var(--ground); }
.messages a.here { background: var(--el-color-primary-light-9); box-shadow: inset 3px 0 var(--sea); }
h2 { margin: 0; }
.back { display: none; margin: 0; }
pre { white-space: pre-wrap; margin: 0; font-size: 0.86rem; }
@media (max-width: 760px) {
  .panes { grid-template-columns: minmax(0, 1fr); }
  .panes.open .messages { display: none; }
  .back { display: block; }
}
</style>
