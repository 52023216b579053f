import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'

import StateMark from '../src/parts/StateMark.vue'

describe('a state mark', () => {
  it('says its state in words; the mark is for eyes alone', () => {
    const mark = mount(StateMark, { props: { state: 'awaiting-approval' } })
    expect(mark.text()).toBe('▲Awaiting approval')
    expect(mark.get('.mark').attributes('aria-hidden')).toBe('true')
    expect(mark.classes()).toContain('warning')
  })

  it('can have another word', () => {
    expect(mount(StateMark, { props: { state: 'failed', word: 'source down' } }).text()).toBe('◆source down')
  })
})
