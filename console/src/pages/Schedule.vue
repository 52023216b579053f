<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, take, type Schemas } from '../api/client'
import { complain } from '../complain'
import Loading from '../parts/Loading.vue'
import { useLoaded } from '../parts/load'
import { HOW_OFTEN, readSchedule, readWindow, WEEKDAYS, writeSchedule, writeWindow, type Keys, type ScheduleFields, type WindowFields } from '../parts/schedule'

const route = useRoute()
const router = useRouter()
const name = computed(() => String(route.params.name))
const own = Intl.DateTimeFormat().resolvedOptions().timeZone
const zone = ref('')
const schedule = ref<ScheduleFields | null>(null)
const window_ = ref<WindowFields | null>(null)
const saving = ref(false)

// What somebody else saves meanwhile is not overwritten.
let version: string | undefined
const { data, error, load } = useLoaded(async () => {
  const asked = api.GET('/reports/{name}/schedule', { params: { path: { name: name.value } } })
  version = (await asked.catch(() => null))?.response.headers.get('ETag') ?? undefined
  return take(asked)
})
const report = useLoaded(() => take(api.GET('/reports/{name}', { params: { path: { name: name.value } } })))
const calendars = useLoaded(() => take(api.GET('/calendars')))
watch(data, (found) => {
  if (!found || schedule.value) return
  zone.value = found.time_zone
  schedule.value = readSchedule(found.schedule as Keys | null)
  window_.value = readWindow(found.window as Keys)
})

const zones = computed(() => {
  const known = Intl.supportedValuesOf('timeZone')
  return zone.value && !known.includes(zone.value) ? [zone.value, 'UTC', ...known] : ['UTC', ...known]
})
const written = computed(() => (schedule.value && window_.value ? { time_zone: zone.value, schedule: writeSchedule(schedule.value), window: writeWindow(window_.value) } : null))

// What the service makes of it, asked again a moment after each change.
const said = ref<Schemas['Explained'] | null>(null)
const wrong = ref<string | null>(null)
let asked = 0
let timer: ReturnType<typeof setTimeout> | undefined
watch(
  written,
  (now) => {
    clearTimeout(timer)
    if (!now) return
    const mine = ++asked
    timer = setTimeout(async () => {
      try {
        const found = await take(api.POST('/schedules/explain', { body: { ...now, schedule: now.schedule ?? undefined, count: 8, reader_time_zone: own } as Schemas['Question'] }))
        if (mine === asked) [said.value, wrong.value] = [found, null]
      } catch (problem) {
        if (mine === asked) wrong.value = problem instanceof Error ? problem.message : String(problem)
      }
    }, 250)
  },
  { deep: true },
)

const civil = computed(() => schedule.value !== null && ['day', 'weekday', 'week', 'month', 'year', 'days', 'weeks', 'rule'].includes(schedule.value.often))
const scheduled = computed(() => schedule.value?.often !== 'request')
const shown = (rfc: string) => {
  const [date = '', rest = ''] = rfc.split('T')
  const year = date.slice(0, 4) === String(new Date().getFullYear()) ? undefined : 'numeric'
  const day = new Intl.DateTimeFormat('en-GB', { weekday: 'short', day: 'numeric', month: 'short', year, timeZone: 'UTC' }).format(new Date(`${date}T00:00:00Z`))
  return `${day.replace(',', '')}, ${rest.slice(0, 5)}`
}

async function save() {
  if (!written.value) return
  saving.value = true
  try {
    await take(api.PUT('/reports/{name}/schedule', { params: { path: { name: name.value }, header: { 'If-Match': version } }, body: written.value as Schemas['NewSchedule'] }))
    await router.push({ name: 'report', params: { name: name.value } })
  } catch (problem) {
    complain(problem)
  } finally {
    saving.value = false
  }
}
</script>

<template>
  <Loading :error="data ? null : error" :ready="schedule !== null" @again="load">
    <form v-if="schedule && window_" class="stack" @submit.prevent="save">
      <div class="row spread">
        <div>
          <p class="small crumbs"><RouterLink to="/reports">Reports</RouterLink> / <RouterLink :to="{ name: 'report', params: { name } }">{{ report.data.value?.title ?? name }}</RouterLink></p>
          <h1>Schedule and window</h1>
        </div>
        <div class="row">
          <el-button @click="router.push({ name: 'report', params: { name } })">Cancel</el-button>
          <el-button type="primary" native-type="submit" :loading="saving" :disabled="wrong !== null">Save</el-button>
        </div>
      </div>
      <div class="columns editor">
        <div class="stack">
          <section class="card fields" aria-labelledby="when">
            <h2 id="when">When it runs</h2>
            <label>Time zone<el-select v-model="zone" filterable aria-label="Time zone"><el-option v-for="one in zones" :key="one" :value="one" :label="one === own ? `${one} (yours)` : one" /></el-select></label>
            <label>How often<el-select v-model="schedule.often" aria-label="How often"><el-option v-for="one in HOW_OFTEN" :key="one.value" :value="one.value" :label="one.label" /></el-select></label>
            <label v-if="schedule.often === 'days' || schedule.often === 'weeks'">{{ schedule.often === 'days' ? 'Days between' : 'Weeks between' }}<el-input-number v-model="schedule.step" :min="1" :max="366" /></label>
            <label v-if="schedule.often === 'interval'">Interval<el-input v-model="schedule.interval" placeholder="PT15M" /><small>ISO 8601: PT15M is 15 minutes, PT6H six hours</small></label>
            <label v-if="schedule.often === 'once'">Date and time<el-input v-model="schedule.once" type="datetime-local" /></label>
            <label v-if="schedule.often === 'crontab'">Crontab expression<el-input v-model="schedule.crontab" placeholder="30 7 * * 1-5" /><small>minute, hour, day of month, month, day of week</small></label>
            <label v-if="schedule.often === 'rule'">Calendar rule<el-input v-model="schedule.rule" placeholder="FREQ=MONTHLY;BYDAY=1MO" /><small>needs a first date below, and one time</small></label>
            <fieldset v-if="schedule.often === 'week' || schedule.often === 'weeks'">
              <legend>Weekdays</legend>
              <el-checkbox-group v-model="schedule.weekdays"><el-checkbox v-for="one in WEEKDAYS" :key="one" :value="one" :label="one.slice(0, 1).toUpperCase() + one.slice(1, 3)" /></el-checkbox-group>
            </fieldset>
            <label v-if="schedule.often === 'month'">Days of the month<el-input v-model="schedule.on" placeholder="1, 15, last, first monday" /><small>1 to 31, last, last-working-day, first monday, last friday</small></label>
            <label v-if="schedule.often === 'year'">Days of the year<el-input v-model="schedule.on" placeholder="01-01, 12-24" /><small>month and day</small></label>
            <label v-if="civil">At<el-input v-model="schedule.at" placeholder="07:30, 19:30" /><small>one or more times of day, with commas</small></label>
            <template v-if="scheduled && schedule.often !== 'once'">
              <label>First date<el-input v-model="schedule.starts" type="date" /></label>
              <label>Last date<el-input v-model="schedule.ends" type="date" /></label>
              <label>Most runs<el-input v-model="schedule.runs" inputmode="numeric" placeholder="without end" /></label>
            </template>
            <template v-if="scheduled">
              <label>Days off<el-select v-model="schedule.calendar" multiple placeholder="no calendar" aria-label="Calendars with days off"><el-option v-for="one in calendars.data.value ?? []" :key="one.name" :value="one.name" :label="one.title" /></el-select><small v-if="!calendars.data.value?.length">Apply a folder with an .ics file to have one</small></label>
              <label v-if="schedule.calendar.length">On those days<el-select v-model="schedule.onCalendarDay" aria-label="On those days"><el-option value="skip" label="Do not run" /><el-option value="next-working-day" label="Run on the next working day" /><el-option value="previous-working-day" label="Run on the working day before" /></el-select></label>
              <label>Missed while down<el-select v-model="schedule.missed" aria-label="Missed while the service was down"><el-option value="latest" label="Run the latest" /><el-option value="all" label="Run all, oldest first" /><el-option value="none" label="Run none" /></el-select></label>
            </template>
          </section>
          <section class="card fields" aria-labelledby="window">
            <h2 id="window">Window</h2>
            <label>Window<el-select v-model="window_.kind" aria-label="Window"><el-option value="previous" label="The previous complete …" /><el-option value="last" label="The last …" /><el-option value="to-date" label="The … to date" /><el-option value="interval" label="Always the same interval" /></el-select></label>
            <label v-if="window_.kind === 'previous' || window_.kind === 'to-date'">Unit<el-select v-model="window_.unit" aria-label="Unit"><el-option v-for="one in ['hour', 'day', 'week', 'month', 'quarter', 'year']" :key="one" :value="one" :label="one" /></el-select></label>
            <label v-if="window_.kind === 'previous'">How many<el-input-number v-model="window_.count" :min="1" :max="1000" /></label>
            <label v-if="window_.kind === 'last'">Length<el-input v-model="window_.last" placeholder="PT24H" /><small>ISO 8601: PT24H is 24 hours, P7D seven civil days</small></label>
            <label v-if="window_.kind === 'interval'">Interval<el-input v-model="window_.interval" placeholder="2026-01-01/2026-02-01" /></label>
            <label v-if="window_.unit === 'week' && window_.kind !== 'last'">Weeks start on<el-select v-model="window_.weekStarts" aria-label="Weeks start on"><el-option v-for="one in WEEKDAYS" :key="one" :value="one" :label="one" /></el-select></label>
            <label>Only hours<el-input v-model="window_.hours" placeholder="all hours" /><small>such as 08:00-12:00, 13:00-17:00</small></label>
            <fieldset>
              <legend>Only weekdays</legend>
              <el-checkbox-group v-model="window_.days"><el-checkbox v-for="one in WEEKDAYS" :key="one" :value="one" :label="one.slice(0, 1).toUpperCase() + one.slice(1, 3)" /></el-checkbox-group>
            </fieldset>
            <label>Settling lag<el-input v-model="window_.lag" placeholder="none" /><small>PT10M leaves the last ten minutes for the next run</small></label>
            <label>Compared with<el-select v-model="window_.compare" clearable placeholder="nothing" aria-label="Compared with"><el-option value="window-before" label="The window before" /><el-option value="last-week" label="The same days a week before" /><el-option value="last-month" label="The same dates a month before" /><el-option value="last-year" label="The same dates a year before" /></el-select></label>
          </section>
        </div>
        <section class="card says" aria-labelledby="says" aria-live="polite">
          <h2 id="says">What that means</h2>
          <el-alert v-if="wrong" type="error" :closable="false" show-icon :title="wrong" />
          <template v-if="said">
            <div :class="{ old: wrong }">
              <p class="sentence">{{ said.schedule ?? 'It runs only when somebody asks.' }}</p>
              <p v-if="said.window" class="muted">Window: {{ said.window }}.</p>
              <p v-if="!said.instants.length">It never runs again.</p>
              <table v-else class="list">
                <thead><tr><th>{{ said.schedule ? `Runs at, ${zone}` : 'If run now' }}</th><th v-if="own !== zone">For you, {{ own }}</th><th>For</th></tr></thead>
                <tbody>
                  <tr v-for="one in said.instants" :key="one.at">
                    <td class="whole">{{ shown(one.local) }}</td>
                    <td v-if="own !== zone" class="whole">{{ one.reader ? shown(one.reader) : '' }}</td>
                    <td :title="one.window ?? undefined">{{ one.window_label }}<div v-if="one.compared_with_label" class="muted small">against {{ one.compared_with_label }}</div></td>
                  </tr>
                </tbody>
              </table>
              <template v-if="said.left_out.length">
                <h3>Left out by the calendar</h3>
                <ul><li v-for="one in said.left_out.slice(0, 12)" :key="one.local">{{ shown(one.local) }}, {{ one.day }}: {{ one.moved_to ? `runs ${shown(one.moved_to)}` : 'does not run' }}</li></ul>
              </template>
            </div>
          </template>
        </section>
      </div>
    </form>
  </Loading>
</template>

<style scoped>
.crumbs { margin: 0; }
.editor { grid-template-columns: minmax(0, 5fr) minmax(0, 6fr); }
.fields { display: grid; gap: 0.65rem; }
.fields h2 { margin: 0; }
.fields > label { display: grid; grid-template-columns: 8.5rem minmax(0, 1fr); gap: 0 0.8rem; align-items: center; }
.fields small { grid-column: 2; color: var(--muted); font-size: 0.8rem; }
fieldset { border: 0; padding: 0; margin: 0; display: grid; grid-template-columns: 8.5rem minmax(0, 1fr); gap: 0 0.8rem; align-items: center; }
legend { float: left; padding: 0; }
fieldset :deep(.el-checkbox) { margin-right: 0.8rem; }
.says { position: sticky; top: 4.4rem; }
.says h3 { font-size: 0.92rem; margin: 1rem 0 0.3rem; }
.says ul { margin: 0; padding-left: 1.1rem; font-size: 0.9rem; }
.sentence { font-size: 1.08rem; font-weight: 600; margin: 0.2rem 0; }
.old { opacity: 0.45; }
@media (max-width: 760px) {
  .editor { grid-template-columns: minmax(0, 1fr); }
  .fields > label, fieldset { grid-template-columns: minmax(0, 1fr); }
  .fields small { grid-column: 1; }
  .says { position: static; }
}
</style>
