// Who is signed in.
import { computed, ref } from 'vue'

import { api, ApiProblem, take, type Schemas } from './api/client'

export const user = ref<Schemas['UserView'] | null>(null)

/** What they may do. The service holds everybody to it, whatever a page offers. */
export const isAuthor = computed(() => user.value !== null && user.value.role !== 'viewer')
export const isAdministrator = computed(() => user.value?.role === 'administrator')
export const mayChange = (kind: string): boolean => user.value?.may_change.includes(kind) ?? false

export async function lookUpSession(): Promise<void> {
  try {
    user.value = await take(api.GET('/session'))
  } catch (error) {
    user.value = null
    if (!(error instanceof ApiProblem && error.status === 401)) {
      throw error
    }
  }
}

export async function signIn(name: string, password: string, code: string): Promise<void> {
  user.value = await take(api.POST('/session', { body: { name, password, ...(code ? { code } : {}) } }))
}

export async function signOut(): Promise<void> {
  await take(api.DELETE('/session'))
  user.value = null
}
