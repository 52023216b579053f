// A page of the console as its reader meets it: with the real components, under a router.
import { enableAutoUnmount, flushPromises, mount, type VueWrapper } from '@vue/test-utils'
import ElementPlus from 'element-plus'
import { afterEach } from 'vitest'
import type { Component } from 'vue'
import { createMemoryHistory, createRouter, RouterView } from 'vue-router'

import type { Schemas } from '../src/api/client'
import { router as real } from '../src/router'
import { user } from '../src/session'

enableAutoUnmount(afterEach)

export const signedIn = (role: Schemas['UserView']['role'] = 'administrator', more: Partial<Schemas['UserView']> = {}): void => {
  user.value = { name: 'ada', role, teams: [], signs_in_by: 'password', held_to: {}, may_change: role === 'viewer' ? [] : ['report', 'dashboard', 'person', 'group', 'sampler', ...(role === 'administrator' ? ['source', 'channel'] : [])], ...more } as Schemas['UserView']
}

export interface Page {
  view: VueWrapper
  /** Where the router is. */
  at: () => string
  /** What stands on the page, in one line. */
  text: () => string
  /** Presses what is named so: a button, link or field of choice. */
  press: (words: string) => Promise<void>
  /** Types into what is labelled so. */
  type: (label: string, text: string) => Promise<void>
  /** Chooses a value of what is labelled so. */
  choose: (label: string, value: unknown) => Promise<void>
  has: (words: string) => boolean
}

const clean = (text: string | null | undefined) => (text ?? '').replace(/\s+/g, ' ').trim()
/** Waits until nothing is under way any more. */
export const settled = async (): Promise<void> => {
  for (let round = 0; round < 6; round++) {
    await flushPromises()
    await new Promise((done) => setTimeout(done, 0))
  }
}
const within = <E extends Element>(selector: string) => [...document.body.querySelectorAll<E>(selector)]
const seen = (element: Element) => !element.closest('[style*="display: none"]')

/** Shows a page at an address of the console, or a part of one with its properties. */
export async function opened(component: Component, options: { at?: string; props?: Record<string, unknown> } = {}): Promise<Page> {
  const at = options.at ?? '/'
  // Several addresses can be of one page, which stays when one leads to another.
  const loader = (route: { components?: unknown }) => String((route.components as { default?: unknown } | undefined)?.default)
  const here = loader(real.resolve(at).matched[0]!)
  const routes = real.getRoutes().map((route) => ({ path: route.path, name: route.name ?? undefined, component: loader(route) === here ? component : { template: '<i />' } }))
  const router = createRouter({ history: createMemoryHistory(), routes })
  await router.push(at)
  const view = mount(options.props ? component : RouterView, { attachTo: document.body, props: options.props as never, global: { plugins: [router, ElementPlus], stubs: { transition: true, 'transition-group': true } } })
  await settled()
  const field = (label: string): HTMLInputElement => {
    const found = within<HTMLInputElement>('input, textarea').find((one) => one.getAttribute('aria-label') === label && seen(one))
    if (!found) throw new Error(`no field “${label}” in: ${clean(document.body.textContent)}`)
    return found
  }
  return {
    view,
    at: () => router.currentRoute.value.fullPath,
    text: () => clean(document.body.textContent),
    has: (words) => clean(document.body.textContent).includes(words),
    async press(words) {
      const named = (one: Element) => [one.getAttribute('aria-label'), clean(one.textContent)].includes(words)
      const found = within<HTMLElement>('button, a, [role=menuitem], [role=radio], .el-radio, .el-checkbox, summary').filter((one) => named(one) && seen(one)).at(-1)
      if (!found) throw new Error(`nothing to press named “${words}” in: ${clean(document.body.textContent)}`)
      ;(found.querySelector<HTMLElement>('input') ?? found).click()
      await settled()
    },
    async type(label, text) {
      const input = field(label)
      input.value = text
      input.dispatchEvent(new Event('input', { bubbles: true }))
      input.dispatchEvent(new Event('change', { bubbles: true }))
      await settled()
    },
    async choose(label, value) {
      const found = view.findAllComponents({ name: 'ElSelect' }).find((one) => one.props('ariaLabel') === label || one.attributes('aria-label') === label || one.find(`[aria-label="${label}"]`).exists())
      if (!found) throw new Error(`nothing to choose from named “${label}”`)
      found.vm.$emit('update:modelValue', value)
      found.vm.$emit('change', value)
      await settled()
    },
  }
}

/** The question that stands on top of the page, answered by one of its buttons. */
export async function answer(button: string, typed?: string): Promise<string> {
  const box = within<HTMLElement>('.el-message-box').filter(seen).at(-1)
  if (!box) throw new Error(`no question is asked in: ${clean(document.body.textContent)}`)
  const text = clean(box.textContent)
  if (typed !== undefined) {
    const input = box.querySelector<HTMLInputElement>('.el-message-box__input input')!
    input.value = typed
    input.dispatchEvent(new Event('input', { bubbles: true }))
    await settled()
  }
  const found = [...box.querySelectorAll('button')].find((one) => clean(one.textContent) === button)
  if (!found) throw new Error(`no button “${button}” in: ${text}`)
  found.click()
  await settled()
  return text
}
export const questions = (): number => within('.el-message-box').filter(seen).length
/** What was said on top of the page. */
export const messages = (): string[] => within('.el-message').map((one) => clean(one.textContent))
