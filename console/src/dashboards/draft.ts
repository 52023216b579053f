// A dashboard while it is edited: its keys and its text, what is wrong about it, and the way back.
// The service keeps keys and text in step; nothing is stored until it is saved.
import { computed, ref, shallowRef } from 'vue'

import { api, ApiProblem, take, type Schemas } from '../api/client'
import type { Dashboard } from './model'

export interface Version {
  keys: Dashboard
  text: string
}
interface Kept extends Version {
  basedOn: string
}
type Ask = (body: Schemas['DraftOrder']) => Promise<Schemas['Draft']>

/** How many changes can be taken back. */
const MOST_STEPS = 200
/** Changes to the same thing within so many milliseconds are one. */
const TOGETHER = 1500

const service: Ask = (body) => take(api.POST('/definitions/draft', { body }))

/** A draft that is kept in the browser under a name, which may become another when it is saved. */
export function useDraft(place: () => string, ask: Ask = service, wait = 200) {
  const keys = ref<Dashboard>({ dashboard: { name: '', title: '' } })
  /** What is typed in the text view; the same as `synced.text` unless it is not TOML. */
  const text = ref('')
  /** Keys and text that say the same. */
  const synced = shallowRef<Version>({ keys: keys.value, text: '' })
  const problems = ref<Schemas['FileProblem'][]>([])
  const failed = ref<string | null>(null)
  const busy = ref(false)
  const saved = ref('')
  const basedOn = ref('')
  const past = shallowRef<Version[]>([])
  const future = shallowRef<Version[]>([])
  let last = { what: '', when: 0 }
  let latest = 0
  let timer: ReturnType<typeof setTimeout> | undefined

  // What was just done is a change before the service has written it into the text.
  const changed = computed(() => busy.value || text.value !== saved.value)

  function keep() {
    if (text.value !== saved.value) sessionStorage.setItem(place(), JSON.stringify({ keys: keys.value, text: text.value, basedOn: basedOn.value } satisfies Kept))
    else sessionStorage.removeItem(place())
  }

  async function sync(body: Schemas['DraftOrder'], byText: boolean) {
    const mine = ++latest
    busy.value = true
    try {
      const found = await ask(body)
      if (mine !== latest) return
      failed.value = null
      problems.value = found.problems
      if (!byText) text.value = found.text
      if (found.keys) {
        if (byText) keys.value = found.keys as unknown as Dashboard
        synced.value = { keys: structuredClone(found.keys) as unknown as Dashboard, text: found.text }
      }
      keep()
    } catch (problem) {
      // What was done stays; it is sent again with the next change.
      if (mine === latest) failed.value = problem instanceof ApiProblem ? problem.message : String(problem)
    } finally {
      if (mine === latest) busy.value = false
    }
  }
  const plain = (found: Dashboard): Dashboard => JSON.parse(JSON.stringify(found)) as Dashboard
  const later = (body: () => Schemas['DraftOrder'], byText: boolean) => {
    latest += 1
    busy.value = true
    clearTimeout(timer)
    timer = setTimeout(() => void sync(body(), byText), wait)
  }

  function remember(what: string) {
    const now = Date.now()
    if (what && what === last.what && now - last.when < TOGETHER) {
      last.when = now
      return
    }
    last = { what, when: now }
    past.value = [...past.value.slice(1 - MOST_STEPS), { keys: plain(keys.value), text: text.value }]
    future.value = []
  }

  /** Changes the keys; changes of the same thing in a row are taken back together. */
  function edit<T>(change: (keys: Dashboard) => T, what = ''): T {
    remember(what)
    const next = plain(keys.value)
    const done = change(next)
    for (const section of next.section ?? []) if (!section.block?.length) delete section.block
    keys.value = next
    later(() => ({ text: synced.value.text, keys: plain(keys.value) as unknown as Record<string, never> }), false)
    return done
  }
  /** Changes the text. */
  function type(typed: string) {
    remember('text')
    text.value = typed
    later(() => ({ text: typed }), true)
  }
  function go(from: typeof past, to: typeof past) {
    const version = from.value.at(-1)
    if (!version) return
    from.value = from.value.slice(0, -1)
    to.value = [...to.value, { keys: plain(keys.value), text: text.value }]
    last = { what: '', when: 0 }
    keys.value = plain(version.keys)
    text.value = version.text
    later(() => ({ text: version.text, keys: plain(version.keys) as unknown as Record<string, never> }), false)
  }

  /** Begins with what is stored, or with what was left unsaved over the same text. */
  async function begin(stored: { text: string; basedOn: string }, first?: Dashboard) {
    saved.value = text.value = stored.text
    basedOn.value = stored.basedOn
    past.value = future.value = []
    const kept = keptOf(sessionStorage.getItem(place()))
    if (kept && kept.basedOn === stored.basedOn) {
      keys.value = kept.keys
      await sync({ text: kept.text }, false)
      return
    }
    sessionStorage.removeItem(place())
    await sync({ text: stored.text, ...(first ? { keys: first as unknown as Record<string, never> } : {}) }, false)
    keys.value = plain(synced.value.keys)
  }
  /** What was saved is what there is to go back to from now on. */
  function isSaved(version: string) {
    saved.value = text.value
    basedOn.value = version
    sessionStorage.removeItem(place())
  }

  return { keys, text, synced, problems, failed, busy, changed, basedOn, edit, type, begin, isSaved, undo: () => go(past, future), redo: () => go(future, past), canUndo: computed(() => past.value.length > 0), canRedo: computed(() => future.value.length > 0) }
}
export type Draft = ReturnType<typeof useDraft>

export function keptOf(stored: string | null): Kept | null {
  try {
    const found = JSON.parse(stored ?? 'null') as Kept | null
    return found?.keys?.dashboard && typeof found.text === 'string' && typeof found.basedOn === 'string' ? found : null
  } catch {
    return null
  }
}

/** The problems of one thing: those of its own keys, and of the queries that it needs. */
export function problemsOf(problems: Schemas['FileProblem'][], ...paths: string[]): Schemas['FileProblem'][] {
  return problems.filter((one) => paths.some((path) => one.key === path || one.key.startsWith(`${path}.`) || one.key.startsWith(`${path}[`)))
}
