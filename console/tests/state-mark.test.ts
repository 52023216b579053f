import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'

import type { RunSummary } from '../src/api/client'
import ContentMark from '../src/parts/ContentMark.vue'
import RunTable from '../src/parts/RunTable.vue'
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

describe('how content was judged', () => {
  it('is said where somebody should see to it, and else not', () => {
    const said = (status: string | null) => mount(ContentMark, { props: { status } }).text()
    expect(['critical', 'warning', 'ok', 'unknown', null].map(said)).toEqual(['◆Critical', '▲Warning', '', '', ''])
  })

  it('stands beside the state in a list of runs, and why there was nothing to send is no error', () => {
    const run = (more: object) => ({ id: 'r', report: 'r', title: 'R', cause: 'schedule', window: { label: 'Friday', time_zone: 'UTC' }, created_at: '2026-11-28T06:00:00Z', ...more }) as RunSummary
    const runs = [run({ state: 'delivered', status: 'critical', good: true }), run({ state: 'quiet', status: 'ok', good: true, problem: 'no rows in "jobs"' }), run({ state: 'failed', status: null, good: false, problem: 'db-2 does not answer' })]
    const table = mount(RunTable, { props: { runs, withTitle: true }, global: { stubs: { RouterLink: { template: '<a><slot /></a>' } } } })
    const [delivered, quiet, failed] = table.findAll('tbody tr')
    expect(delivered!.text()).toContain('◆Critical')
    expect(quiet!.find('.problem').exists()).toBe(false)
    expect(quiet!.text()).toContain('no rows in "jobs"')
    expect(failed!.get('.problem').text()).toBe('db-2 does not answer')
  })
})
