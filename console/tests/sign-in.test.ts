import { startAuthentication } from '@simplewebauthn/browser'
import { describe, expect, it, vi } from 'vitest'

import SignIn from '../src/pages/SignIn.vue'
import { user } from '../src/session'
import { opened } from './page'
import { answering, asked, bodies, Refusal, type Part } from './service'

const ADA: Part<'UserView'> = { name: 'ada', role: 'viewer', teams: [] }
vi.mock('@simplewebauthn/browser', async (original) => ({ ...(await original<object>()), startAuthentication: vi.fn() }))
const entered = async (at = '/sign-in') => {
  const page = await opened(SignIn, { at })
  await page.type('Name', 'ada')
  await page.type('Password', 'correct horse')
  return page
}

describe('the sign-in', () => {
  it('goes to the page that was asked for, and to none elsewhere', async () => {
    answering({ 'POST /session': ADA })
    for (const [to, then] of [
      ['/runs?state=failed', '/runs?state=failed'],
      ['//elsewhere.example/', '/'],
      ['https://elsewhere.example/', '/'],
    ]) {
      const page = await entered(`/sign-in?to=${encodeURIComponent(to!)}`)
      await page.press('Sign in')
      expect(page.at()).toBe(then)
      expect(user.value?.name).toBe('ada')
      page.view.unmount()
    }
  })

  it('offers the identity provider where there is one, back to the page that was asked for', async () => {
    answering({ 'GET /sign-in': { provider: 'Orrin Sound account' } })
    const page = await opened(SignIn, { at: `/sign-in?to=${encodeURIComponent('/runs?page=2')}` })
    const way = page.view.find('a.way')
    expect(way.text()).toBe('Sign in with Orrin Sound account')
    expect(way.attributes('href')).toBe('/sign-in/begin?to=%2Fruns%3Fpage%3D2')
    page.view.unmount()
    answering({ 'GET /sign-in': { provider: null } })
    const without = await opened(SignIn, { at: '/sign-in' })
    expect(without.view.find('a.way').exists()).toBe(false)
  })

  it('asks the device for a passkey where browsers have them, and says it if there is none', async () => {
    vi.stubGlobal('PublicKeyCredential', class {})
    answering({ 'GET /sign-in': { provider: null, passkeys: true }, 'POST /sign-in/passkey/challenge': { challenge: 'c', options: { publicKey: { challenge: 'x' } } }, 'POST /sign-in/passkey': ADA })
    const page = await opened(SignIn, { at: '/sign-in?to=/runs' })
    vi.mocked(startAuthentication).mockRejectedValueOnce(Object.assign(new Error('no'), { name: 'NotAllowedError' }))
    await page.press('Sign in with a passkey')
    expect(page.text()).toContain('It was cancelled, or took too long.')
    expect(bodies('POST /sign-in/passkey')).toEqual([])
    vi.mocked(startAuthentication).mockResolvedValueOnce({ id: 'k' } as never)
    await page.press('Sign in with a passkey')
    expect(bodies('POST /sign-in/passkey')).toEqual([{ challenge: 'c', answer: { id: 'k' } }])
    expect(page.at()).toBe('/runs')
    expect(user.value?.name).toBe('ada')
    page.view.unmount()
    vi.unstubAllGlobals()
    const without = await opened(SignIn, { at: '/sign-in' })
    expect(without.has('Sign in with a passkey')).toBe(false)
  })

  it('sends nothing until there are a name and a password', async () => {
    const page = await opened(SignIn, { at: '/sign-in' })
    await page.press('Sign in')
    expect(page.text()).toContain('Give both a name and a password.')
    expect(asked()).toEqual([])
  })

  it('asks for a code only where the service does, and keeps the password meanwhile', async () => {
    answering({ 'POST /session': ({ body }: { body: unknown }) => ((body as { code?: string }).code === '123456' ? ADA : new Refusal(401, 'The code is not right.', { needs_code: true })) })
    const page = await entered('/sign-in?to=/runs')
    expect(page.has('Code of your device')).toBe(false)
    await page.press('Sign in')
    expect(page.has('Code of your device')).toBe(true)
    expect(page.has('not right')).toBe(false)
    await page.type('Code of your device, or a recovery code', '000000')
    await page.press('Sign in')
    expect(page.has('The code is not right.')).toBe(true)
    await page.type('Code of your device, or a recovery code', ' 123456 ')
    await page.press('Sign in')
    expect(bodies('POST /session').at(-1)).toEqual({ name: 'ada', password: 'correct horse', code: '123456' })
    expect(page.at()).toBe('/runs')
  })

  it('forgets a wrong password, but not the name', async () => {
    answering({ 'POST /session': new Refusal(401, 'The name or the password is wrong.') })
    const page = await entered()
    await page.press('Sign in')
    expect(page.text()).toContain('The name or the password is wrong.')
    expect(page.view.find<HTMLInputElement>('[name=password]').element.value).toBe('')
    expect(page.view.find<HTMLInputElement>('[name=name]').element.value).toBe('ada')
  })

  it('mails a link without saying whether there is such a user', async () => {
    answering({ 'POST /password-links': undefined })
    const page = await opened(SignIn, { at: '/sign-in' })
    await page.press('Forgotten the password?')
    await page.type('Name', ' ada ')
    await page.press('Mail me a link')
    expect(bodies('POST /password-links')).toEqual([{ name: 'ada' }])
    expect(page.text()).toContain('If there is a user of this name')
  })
})
