import { mount } from '@vue/test-utils'
import ElementPlus from 'element-plus'
import { describe, expect, it } from 'vitest'

import type { Keys } from '../src/forms/field'
import { entered, FORMS, isSecretStep, patchOf } from '../src/forms/fields'
import Steps from '../src/forms/Steps.vue'

describe('steps on a live page', () => {
  it('are added, filled in and removed, and what is secret is hidden', async () => {
    let steps: Keys[] = [{ fill: 'Password', with: 'letmein' }]
    const wrapper = mount(Steps, { props: { modelValue: steps, title: 'Steps', secret: true, 'onUpdate:modelValue': (now: Keys[]) => (steps = now) }, global: { plugins: [ElementPlus] } })
    expect(wrapper.get<HTMLInputElement>('input[aria-label="What step 1 fills in"]').element.type).toBe('password')
    await wrapper.findAll('button').at(-1)!.trigger('click')
    expect(steps).toEqual([{ fill: 'Password', with: 'letmein' }, { press: '' }])
    await wrapper.setProps({ modelValue: steps })
    await wrapper.get('input[aria-label="Where step 2 does it"]').setValue('Sign in')
    expect(steps[1]).toEqual({ press: 'Sign in' })
    await wrapper.setProps({ modelValue: [{ fill: 'Password', with: 'secret:board' }] })
    expect(wrapper.get<HTMLInputElement>('input[aria-label="What step 1 fills in"]').element.type).toBe('text')
    await wrapper.get('button[aria-label="Remove step 1"]').trigger('click')
    expect(steps).toEqual([])
  })

  it('are asked for where somebody signs in by form, and belong to the source', () => {
    expect(isSecretStep({ fill: 'Passphrase' })).toBe(true)
    expect(isSecretStep({ fill: 'Name' })).toBe(false)
    const fields = FORMS.source!
    const keys = { source: { name: 'a', title: 'A', kind: 'web-page', url: 'https://a.example', 'sign-in': { kind: 'form', do: [{ press: 'In' }] } } }
    const values = entered(fields, keys)
    expect(values['source.sign-in.do']).toEqual([{ press: 'In' }])
    expect(patchOf(fields, values, keys)).toEqual({})
    expect(patchOf(fields, { ...values, 'source.sign-in.kind': '' }, keys)).toEqual({ source: { 'sign-in': { kind: null, do: null } } })
  })
})
