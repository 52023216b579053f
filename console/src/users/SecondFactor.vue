<script setup lang="ts">
// A second factor for your own sign-in: begun by a key, confirmed by a code, turned off again.
import { ElMessage } from 'element-plus'
import { computed, ref } from 'vue'

import { api, take, type Schemas } from '../api/client'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { user } from '../session'
import { instant } from '../words'

const { data, error, load } = useLoaded(() => take(api.GET('/session/second-factor')))
const [password, code, problem] = [ref(''), ref(''), ref('')]
const busy = ref(false)
const begun = ref<Schemas['NewSecondFactor'] | null>(null)
const codes = ref<string[] | null>(null)
const picture = computed(() => (begun.value ? `data:image/svg+xml,${encodeURIComponent(begun.value.svg)}` : ''))
/** The key in groups, as it is typed. */
const key = computed(() => begun.value?.key.match(/.{1,4}/g)?.join(' ') ?? '')

async function tried(work: () => Promise<unknown>) {
  busy.value = true
  problem.value = ''
  try {
    await work()
  } catch (refused) {
    problem.value = refused instanceof Error ? refused.message : String(refused)
    code.value = ''
  } finally {
    busy.value = false
  }
}
const begin = () =>
  tried(async () => {
    begun.value = await take(api.POST('/session/second-factor', { body: { password: password.value } }))
    password.value = ''
  })
const confirm = () =>
  tried(async () => {
    codes.value = (await take(api.PUT('/session/second-factor', { body: { code: code.value } }))).codes
    begun.value = null
    code.value = ''
    await load()
  })
const turnOff = () =>
  tried(async () => {
    await take(api.POST('/session/second-factor/removal', { body: { password: password.value } }))
    password.value = ''
    codes.value = null
    ElMessage({ type: 'success', message: 'You are asked for no second factor any more.', offset: 72 })
    await load()
  })
</script>

<template>
  <section class="card stack" aria-labelledby="second-factor">
    <h2 id="second-factor">Second factor</h2>
    <Loading :error="data ? null : error" :ready="data !== null" @again="load">
      <div v-if="codes" class="stack" role="status">
        <p><strong>You are asked for a code from now on.</strong> Should you lose the device, each of these lets you in once. They are shown only now:</p>
        <ul class="codes"><li v-for="one in codes" :key="one"><code>{{ one }}</code></li></ul>
      </div>
      <form v-if="begun" class="stack" @submit.prevent="confirm">
        <p>Put this key into your device, by its camera or by hand, and enter the code that it shows.</p>
        <div class="row key">
          <img :src="picture" width="200" height="200" alt="The key as a QR code" />
          <div class="stack narrow">
            <p><code>{{ key }}</code></p>
            <label>Code<el-input v-model="code" name="code" aria-label="Code" inputmode="numeric" autocomplete="one-time-code" maxlength="8" /></label>
            <div class="row"><el-button type="primary" native-type="submit" :loading="busy" :disabled="!code.trim()">Confirm</el-button><el-button @click="begun = null">Cancel</el-button></div>
          </div>
        </div>
      </form>
      <form v-else class="stack narrow" @submit.prevent="data?.since ? turnOff() : begin()">
        <p v-if="data?.since" class="muted">You are asked for a code since {{ instant(data.since) }}. {{ data.recovery_codes === 1 ? '1 recovery code is' : `${data.recovery_codes} recovery codes are` }} left.</p>
        <p v-else class="muted">A code that your device shows, new every 30 seconds, besides the password. Any program that shows such codes (RFC 6238) will do.</p>
        <input class="hidden" type="text" name="username" autocomplete="username" :value="user?.name" tabindex="-1" aria-hidden="true" readonly />
        <label>Your password<el-input v-model="password" name="password-again" aria-label="Your password" type="password" show-password autocomplete="current-password" /></label>
        <div><el-button :type="data?.since ? undefined : 'primary'" native-type="submit" :loading="busy" :disabled="!password">{{ data?.since ? 'Turn it off' : 'Begin' }}</el-button></div>
      </form>
      <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
    </Loading>
  </section>
</template>

<style scoped>
.narrow { max-width: 26rem; }
.key { align-items: flex-start; gap: 1.2rem; }
.key img { background: #fff; border-radius: 6px; }
.codes { columns: 2; max-width: 26rem; margin: 0; padding: 0; list-style: none; }
.hidden { position: absolute; width: 1px; height: 1px; opacity: 0; pointer-events: none; }
p { margin: 0; }
label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
code { overflow-wrap: anywhere; user-select: all; }
</style>
