// Who is signed in.
import { computed, ref } from 'vue'

import { api, ApiProblem, take, type Schemas } from './api/client'
import { forgetPictures } from './dashboards/remembered'
import { inNameSpace, nameOf } from './forms/fields'

export const user = ref<Schemas['UserView'] | null>(null)

/** Whether they are held to values: they see documents and published views that were made with these. */
export const isHeld = computed(() => Object.keys(user.value?.held_to ?? {}).length > 0)
/** The pages that are there for them. */
export const HELD_PAGES = ['published', 'archive', 'account']

/** What they may do. The service holds everybody to it, whatever a page offers. */
export const isAuthor = computed(() => user.value !== null && user.value.role !== 'viewer')
export const isAdministrator = computed(() => user.value?.role === 'administrator')
/** The only team that they are in: what they make belongs to it. Administrators make what belongs to all. */
export const onlyTeam = computed(() => (!isAdministrator.value && user.value?.teams.length === 1 ? user.value.teams[0] : undefined))
/** The name that a title suggests for something new of theirs. */
export const newName = (title: string): string => inNameSpace(onlyTeam.value, nameOf(title))
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

/** Signs in whoever's device has answered a challenge. */
export async function signInWithPasskey(challenge: string, answer: Record<string, unknown>): Promise<void> {
  user.value = await take(api.POST('/sign-in/passkey', { body: { challenge, answer } }))
}

/** Ends the session; answers where else to sign out, if somewhere. */
export async function signOut(): Promise<string | null> {
  const { then } = await take(api.DELETE('/session'))
  forgetPictures()
  user.value = null
  return then ?? null
}
