// What the schedule editor's fields say, as the keys of [schedule] and [window], and back.
// Keys that have no field here (lag of weeks, for instance) are kept as they were.

export type Keys = Record<string, unknown>

export const WEEKDAYS = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday']

export const HOW_OFTEN = [
  { value: 'day', label: 'Every day' },
  { value: 'weekday', label: 'Every weekday (Monday to Friday)' },
  { value: 'week', label: 'On certain weekdays' },
  { value: 'month', label: 'On certain days of the month' },
  { value: 'year', label: 'On certain days of the year' },
  { value: 'days', label: 'Every so many days' },
  { value: 'weeks', label: 'Every so many weeks' },
  { value: 'interval', label: 'Every so many minutes or hours' },
  { value: 'once', label: 'Once' },
  { value: 'crontab', label: 'By a crontab expression' },
  { value: 'rule', label: 'By a calendar rule (RFC 5545)' },
  { value: 'request', label: 'Only when asked' },
] as const

export type Often = (typeof HOW_OFTEN)[number]['value']

export interface ScheduleFields {
  often: Often
  at: string
  weekdays: string[]
  on: string
  step: number
  interval: string
  once: string
  crontab: string
  rule: string
  starts: string
  ends: string
  runs: string
  calendar: string[]
  onCalendarDay: string
  missed: string
  grace: string
}

export interface WindowFields {
  kind: 'previous' | 'last' | 'to-date' | 'interval'
  unit: string
  count: number
  last: string
  interval: string
  lag: string
  hours: string
  days: string[]
  compare: string
  weekStarts: string
}

const words = (value: unknown): string[] => (Array.isArray(value) ? value.map(String) : value === undefined || value === null ? [] : [String(value)])
const text = (value: unknown) => (value === undefined || value === null ? '' : String(value))
const listed = (written: string) => written.split(',').map((part) => part.trim()).filter(Boolean)
const oneOrMany = (found: string[]) => (found.length === 1 ? found[0] : found)

export function readSchedule(keys: Keys | null | undefined): ScheduleFields {
  const every = text(keys?.every)
  const stepped = /^P(\d+)([DW])$/.exec(every)
  const on = words(keys?.on)
  const often: Often = !keys
    ? 'request'
    : keys.once !== undefined
      ? 'once'
      : keys.crontab !== undefined
        ? 'crontab'
        : keys.rule !== undefined
          ? 'rule'
          : ['day', 'weekday', 'week', 'month', 'year'].includes(every)
            ? (every as Often)
            : stepped
              ? stepped[2] === 'W' && on.length
                ? 'weeks'
                : 'days'
              : 'interval'
  const step = stepped ? Number(stepped[1]) * (stepped[2] === 'W' && often === 'days' ? 7 : 1) : 2
  return {
    often,
    at: words(keys?.at).join(', '),
    weekdays: often === 'week' || often === 'weeks' ? on : [],
    on: often === 'month' || often === 'year' ? on.join(', ') : '',
    step,
    interval: often === 'interval' ? every : 'PT15M',
    once: text(keys?.once),
    crontab: text(keys?.crontab),
    rule: text(keys?.rule),
    starts: text(keys?.starts),
    ends: text(keys?.ends),
    runs: text(keys?.runs),
    calendar: words(keys?.calendar),
    onCalendarDay: text(keys?.['on-calendar-day']) || 'skip',
    missed: text(keys?.missed) || 'latest',
    grace: text(keys?.grace),
  }
}

export function writeSchedule(fields: ScheduleFields): Keys | null {
  if (fields.often === 'request') return null
  const keys: Keys = {}
  const put = (key: string, value: unknown) => {
    if (value !== '' && !(Array.isArray(value) && value.length === 0)) keys[key] = value
  }
  const civil = ['day', 'weekday', 'week', 'month', 'year', 'days', 'weeks'].includes(fields.often)
  if (civil) {
    put('every', fields.often === 'days' ? `P${fields.step}D` : fields.often === 'weeks' ? `P${fields.step}W` : fields.often)
  } else if (fields.often === 'interval') {
    put('every', fields.interval)
  } else {
    put(fields.often, fields[fields.often as 'once' | 'crontab' | 'rule'])
  }
  if (fields.often === 'week' || fields.often === 'weeks') put('on', fields.weekdays)
  if (fields.often === 'month' || fields.often === 'year') put('on', listed(fields.on))
  if (civil || fields.often === 'rule') put('at', oneOrMany(listed(fields.at)))
  if (fields.often !== 'once') {
    put('starts', fields.starts)
    put('ends', fields.ends)
    if (fields.runs.trim()) keys.runs = /^\d+$/.test(fields.runs.trim()) ? Number(fields.runs) : fields.runs
  }
  if (fields.calendar.length) {
    put('calendar', oneOrMany(fields.calendar))
    if (fields.onCalendarDay !== 'skip') put('on-calendar-day', fields.onCalendarDay)
  }
  if (fields.missed !== 'latest') put('missed', fields.missed)
  put('grace', fields.grace)
  return keys
}

export function readWindow(keys: Keys): WindowFields {
  const kind = (['previous', 'last', 'to-date', 'interval'] as const).find((key) => keys[key] !== undefined) ?? 'previous'
  return {
    kind,
    unit: text(keys.previous ?? keys['to-date']) || 'day',
    count: Number(keys.count ?? 1),
    last: text(keys.last) || 'PT24H',
    interval: text(keys.interval),
    lag: text(keys.lag),
    hours: words(keys['only-hours']).join(', '),
    days: words(keys['only-days']).flatMap((day) => (day === 'weekday' ? WEEKDAYS.slice(0, 5) : [day])),
    compare: text(keys.compare),
    weekStarts: text(keys['week-starts']) || 'monday',
  }
}

export function writeWindow(fields: WindowFields): Keys {
  const keys: Keys = {}
  const put = (key: string, value: unknown) => {
    if (value !== '' && !(Array.isArray(value) && value.length === 0)) keys[key] = value
  }
  put(fields.kind, fields.kind === 'last' ? fields.last : fields.kind === 'interval' ? fields.interval : fields.unit)
  if (fields.kind === 'previous' && fields.count > 1) put('count', fields.count)
  put('lag', fields.lag)
  put('only-hours', oneOrMany(listed(fields.hours)))
  const days = WEEKDAYS.filter((day) => fields.days.includes(day))
  put('only-days', days.join() === WEEKDAYS.slice(0, 5).join() ? 'weekday' : oneOrMany(days))
  put('compare', fields.compare)
  if (fields.weekStarts !== 'monday' && fields.unit === 'week') put('week-starts', fields.weekStarts)
  return keys
}
