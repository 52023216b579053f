import { mount, RouterLinkStub } from '@vue/test-utils'
import { beforeEach, describe, expect, it } from 'vitest'

import FirstSteps from '../src/parts/FirstSteps.vue'
import { signedIn } from './page'

const page = (sources: number) => mount(FirstSteps, { props: { sources }, global: { stubs: { RouterLink: RouterLinkStub, ElButton: { template: '<button><slot /></button>' } } } })
const links = (shown: ReturnType<typeof page>) => shown.findAllComponents(RouterLinkStub).map((link) => link.props('to'))

describe('the first steps', () => {
  beforeEach(() => signedIn())

  it('begin with a source where there is none', () => {
    const shown = page(0)
    expect(links(shown)).toContainEqual({ name: 'new', params: { kind: 'source' } })
    expect(shown.find('li.done').exists()).toBe(false)
  })

  it('go on with something ready-made where there is one', () => {
    const shown = page(2)
    expect(shown.find('li.done').text()).toContain('2 sources')
    expect(links(shown)).toContain('/templates')
    expect(links(shown)).not.toContainEqual({ name: 'new', params: { kind: 'source' } })
  })

  it('leave sources to an administrator where authors may not change them', () => {
    signedIn('author')
    expect(links(page(0))).not.toContainEqual({ name: 'new', params: { kind: 'source' } })
    expect(page(0).text()).toContain('An administrator does this.')
  })
})
