// Loading with its three ends: data, an error in words, or a newer request.
import { onUnmounted, ref, type Ref } from 'vue'

export interface Loaded<T> {
  data: Ref<T | null>
  error: Ref<string | null>
  load: () => Promise<void>
}

/** Loads at once and, if `every` is given, again and again in milliseconds. */
export function useLoaded<T>(ask: () => Promise<T>, every?: number): Loaded<T> {
  const data = ref(null) as Ref<T | null>
  const error = ref<string | null>(null)
  let latest = 0
  async function load() {
    const mine = ++latest
    try {
      const found = await ask()
      if (mine === latest) {
        data.value = found
        error.value = null
      }
    } catch (problem) {
      if (mine === latest) error.value = problem instanceof Error ? problem.message : String(problem)
    }
  }
  void load()
  if (every) {
    const timer = setInterval(() => document.visibilityState === 'visible' && void load(), every)
    onUnmounted(() => clearInterval(timer))
  }
  return { data, error, load }
}
