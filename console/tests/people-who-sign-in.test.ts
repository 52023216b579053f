import { startRegistration, WebAuthnError } from '@simplewebauthn/browser'
import { describe, expect, it, vi } from 'vitest'

import { user } from '../src/session'
import Account from '../src/users/Account.vue'
import Passkeys from '../src/users/Passkeys.vue'
import SecondFactor from '../src/users/SecondFactor.vue'
import Teams from '../src/users/Teams.vue'
import Users from '../src/users/Users.vue'
import { answer, messages, opened, questions, settled, signedIn } from './page'
import { answering, asked, bodies, Refusal, type Part } from './service'

const entry = (name: string, more: Part<'UserEntry'> = {}): Part<'UserEntry'> => ({ name, role: 'viewer', email: `${name}@orrin-sound.example`, has_password: true, second_factor: false, passkeys: 0, signs_in_by: 'password', held_to: {}, disabled_at: null, last_seen_at: null, invited_until: null, ...more })
vi.mock('@simplewebauthn/browser', async (original) => ({ ...(await original<object>()), startRegistration: vi.fn() }))
const list = (...items: Part<'UserEntry'>[]) => ({ items, total: items.length, page: 1, size: 50 })

describe('the page of users', () => {
  const shown = async (...items: Part<'UserEntry'>[]) => {
    signedIn()
    answering({ 'GET /users': list(...items), 'GET /teams': [] })
    return opened(Users)
  }
  const send = async (id: string) => {
    document.querySelector<HTMLFormElement>(id)!.requestSubmit()
    await settled()
  }

  it('invites by mail, or hands the link over where there is no address', async () => {
    const page = await shown(entry('ada'))
    answering({ 'POST /users': { name: 'runa', link: 'http://lark.test/invitation#abc', mailed_to: null, reason: 'no mail address', expires_at: '2026-11-30T10:00:00Z' } })
    await page.press('Invite somebody')
    await page.type('Name to sign in with', ' runa ')
    await send('#invite')
    expect(bodies('POST /users')).toEqual([{ name: 'runa', role: 'viewer', email: null }])
    expect(page.text()).toContain('Hand this link to runa')
    expect(page.text()).toContain('http://lark.test/invitation#abc')
    await page.press('Close')
    expect(page.has('invitation#abc')).toBe(false)
  })

  it('keeps what was typed when an invitation is refused', async () => {
    const page = await shown(entry('ada'))
    answering({ 'POST /users': new Refusal(409, 'There is a user called “ada” already.') })
    await page.press('Invite somebody')
    await page.type('Name to sign in with', 'ada')
    await send('#invite')
    expect(page.text()).toContain('There is a user called “ada” already.')
    expect(document.querySelector<HTMLInputElement>('#invite [name=name]')!.value).toBe('ada')
  })

  it('asks before somebody is disabled or removed, and says what goes', async () => {
    const page = await shown(entry('runa'))
    answering({ 'PATCH /users/{name}': undefined, 'DELETE /users/{name}': undefined })
    const act = async (what: string) => {
      page.view.findAllComponents({ name: 'ElDropdown' })[0]!.vm.$emit('command', what)
      await settled()
    }
    await act('disable')
    expect(await answer('Cancel')).toContain('Nothing of theirs is removed')
    await act('remove')
    expect(await answer('Cancel')).toContain('Reports and other definitions stay')
    expect(asked()).toEqual([])
    await act('disable')
    await answer('Disable')
    expect(bodies('PATCH /users/{name}')).toEqual([{ disabled: true }])
    await act('remove')
    await answer('Remove')
    expect(asked('DELETE /users/{name}')[0]!.address).toBe('/users/runa')
    await act('enable')
    expect(questions()).toBe(0)
    expect(bodies('PATCH /users/{name}').at(-1)).toEqual({ disabled: false })
  })

  it('hands over what somebody owns, and says so before they are removed', async () => {
    const page = await shown(entry('runa', { passkeys: 2 }))
    expect(page.text()).toContain('with 2 passkeys')
    answering({ 'GET /users/{name}/reports': { owner: 'runa@orrin-sound.example', reports: ['daily', 'weekly'] }, 'POST /users/{name}/hand-over': { owner: 'ada@orrin-sound.example', reports: ['daily', 'weekly'] }, 'DELETE /users/{name}': undefined })
    const act = async (what: string) => {
      page.view.findAllComponents({ name: 'ElDropdown' })[0]!.vm.$emit('command', what)
      await settled()
    }
    await act('remove')
    expect(await answer('Cancel')).toContain('They own the reports daily, weekly: hand these over first')
    await act('reports')
    expect(await answer('Hand over', ' ada ')).toContain('runa@orrin-sound.example owns the reports daily, weekly')
    expect(bodies('POST /users/{name}/hand-over')).toEqual([{ to: 'ada' }])
    expect(messages().join()).toContain('ada@orrin-sound.example owns the reports daily, weekly now.')
    answering({ 'GET /users/{name}/reports': { owner: 'runa@orrin-sound.example', reports: [] } })
    await act('reports')
    expect(messages().join()).toContain('owns no report')
  })

  it('takes a mail address only if it is one', async () => {
    const page = await shown(entry('runa', { email: null }))
    answering({ 'PATCH /users/{name}': undefined })
    page.view.findAllComponents({ name: 'ElDropdown' })[0]!.vm.$emit('command', 'email')
    await settled()
    expect(await answer('Save', 'no address')).toContain('Mail address of runa')
    expect(asked()).toEqual([])
    await answer('Save', 'runa@orrin-sound.example')
    expect(bodies('PATCH /users/{name}')).toEqual([{ email: 'runa@orrin-sound.example' }])
  })

  it('changes a role at once, and shows the list anew if it is refused', async () => {
    const page = await shown(entry('runa'))
    answering({ 'PATCH /users/{name}': new Refusal(409, 'The last administrator stays one.') })
    await page.choose('Role of runa', 'author')
    expect(bodies('PATCH /users/{name}')).toEqual([{ role: 'author' }])
    expect(messages().join()).toContain('The last administrator stays one.')
    expect(asked('GET /users').length).toBeGreaterThan(1)
  })
})

describe('teams', () => {
  const team = (more: Part<'TeamView'> = {}): Part<'TeamView'> => ({ name: 'havnes', title: 'Havnes port', addresses: ['*@havnes.example'], members: [{ name: 'runa', owner: false }], definitions: 2, own: true, ...more })

  it('are made with patterns of addresses, and a name from the title', async () => {
    signedIn()
    answering({ 'GET /teams': [], 'GET /users': list(), 'POST /teams': undefined })
    const page = await opened(Teams)
    expect(page.has('None: everybody sees every report')).toBe(true)
    await page.press('New team')
    await page.type('Title', 'Port operations')
    await page.type('Addresses that its reports may go to', '*@a.example, *@b.example')
    document.querySelector<HTMLFormElement>('#new-team')!.requestSubmit()
    await settled()
    expect(bodies('POST /teams')).toEqual([{ name: 'port-operations', title: 'Port operations', addresses: ['*@a.example', '*@b.example'] }])
    expect(user.value!.teams).toContain('port-operations')
  })

  it('let an owner say who is in, and nothing else', async () => {
    signedIn('author', { teams: ['havnes'] })
    answering({ 'GET /teams': [team()], 'PUT /teams/{name}/members/{user}': undefined, 'DELETE /teams/{name}/members/{user}': undefined })
    const page = await opened(Teams)
    expect(page.has('Your teams')).toBe(true)
    expect(page.has('New team')).toBe(false)
    expect(asked('GET /users')).toEqual([])
    await page.press('make owner of Havnes port: runa')
    expect(bodies('PUT /teams/{name}/members/{user}')).toEqual([{ owner: true }])
    await page.press('Take runa out of Havnes port')
    expect(asked('DELETE /teams/{name}/members/{user}')[0]!.address).toBe('/teams/havnes/members/runa')
  })

  it('of which one is only a member have nothing to press', async () => {
    signedIn('author', { teams: ['havnes'] })
    answering({ 'GET /teams': [team({ own: false })] })
    const page = await opened(Teams)
    expect(page.has('runa')).toBe(true)
    expect(page.view.findAll('button')).toEqual([])
  })
})

describe('one’s own sign-in', () => {
  const shown = async () => {
    signedIn('viewer')
    answering({ 'GET /sessions': [{ id: 's1', current: true, created_at: '2026-11-28T08:00:00Z', expires_at: '2026-12-28T08:00:00Z' }, { id: 's2', current: false, used_with: 'Mozilla/5.0 (X11; Linux) Firefox/130.0', created_at: '2026-11-27T08:00:00Z', expires_at: '2026-12-27T08:00:00Z' }], 'GET /tokens': [], 'GET /session/second-factor': { since: null, recovery_codes: 0 } })
    return opened(Account)
  }
  const submit = async (page: Awaited<ReturnType<typeof shown>>, index: number) => {
    page.view.findAll('form')[index]!.element.requestSubmit()
    await settled()
  }

  it('finds what is wrong with a new password before it is sent', async () => {
    const page = await shown()
    await submit(page, 0)
    expect(page.has('Give the password that you have.')).toBe(true)
    await page.type('Current password', 'the old one')
    await page.type('New password', 'short')
    await submit(page, 0)
    expect(asked()).toEqual([])
  })

  it('signs another browser out, but offers no such thing for this one', async () => {
    const page = await shown()
    answering({ 'DELETE /sessions/{id}': undefined })
    expect(page.view.findAll('button').filter((one) => one.text() === 'Sign out')).toHaveLength(1)
    await page.press('Sign out')
    expect(asked('DELETE /sessions/{id}')[0]!.address).toBe('/sessions/s2')
  })

  it('shows a token when it is made, and never again', async () => {
    const page = await shown()
    answering({ 'POST /session/tokens': { token: 'lark_abc' } })
    await page.type('What it is for', ' nightly job ')
    await submit(page, 2)
    expect(bodies('POST /session/tokens')).toEqual([{ label: 'nightly job', scope: 'read', days: 90 }])
    expect(page.has('lark_abc')).toBe(true)
    page.view.unmount()
    expect((await shown()).has('lark_abc')).toBe(false)
  })
})

describe('a second factor', () => {
  it('is begun by the password, confirmed by a code, and shows its codes once', async () => {
    signedIn('viewer')
    let since: string | null = null
    answering({
      'GET /session/second-factor': () => ({ since, recovery_codes: since ? 10 : 0 }),
      'POST /session/second-factor': { key: 'ABCDEFGH', svg: '<svg/>' },
      'PUT /session/second-factor': ({ body }: { body: unknown }) => {
        if ((body as { code: string }).code !== '111222') return new Refusal(422, 'The code is not right.')
        since = '2026-11-28T10:00:00Z'
        return { codes: ['aaaa-bbbb', 'cccc-dddd'] }
      },
    })
    const page = await opened(SecondFactor)
    const submit = async () => {
      page.view.find('form').element.requestSubmit()
      await settled()
    }
    await page.type('Your password', 'correct horse')
    await submit()
    expect(page.has('ABCD EFGH')).toBe(true)
    expect(page.view.find('img').attributes('alt')).toBe('The key as a QR code')
    await page.type('Code', '000000')
    await submit()
    expect(page.has('The code is not right.')).toBe(true)
    expect(page.has('ABCD EFGH')).toBe(true)
    await page.type('Code', '111222')
    await submit()
    expect(page.has('aaaa-bbbb')).toBe(true)
    expect(page.has('ABCD EFGH')).toBe(false)
    expect(page.has('10 recovery codes are left')).toBe(true)
  })

  it('is turned off by the password', async () => {
    signedIn('viewer')
    answering({ 'GET /session/second-factor': { since: '2026-11-28T10:00:00Z', recovery_codes: 1 }, 'POST /session/second-factor/removal': undefined })
    const page = await opened(SecondFactor)
    expect(page.has('1 recovery code is left')).toBe(true)
    await page.type('Your password', 'correct horse')
    page.view.find('form').element.requestSubmit()
    await settled()
    expect(bodies('POST /session/second-factor/removal')).toEqual([{ password: 'correct horse' }])
    expect(messages().join()).toContain('no second factor any more')
  })
})

describe('passkeys', () => {
  const KEY: Part<'Passkey'> = { id: '1', title: 'Phone', created_at: '2026-11-01T10:00:00Z', last_used_at: null }
  const shown = (available: boolean, keys: Part<'Passkey'>[] = []) => {
    signedIn()
    answering({ 'GET /sign-in': { provider: null, passkeys: available }, 'GET /session/passkeys': keys })
    return opened(Passkeys)
  }
  const add = async (page: Awaited<ReturnType<typeof opened>>) => {
    answering({ 'POST /session/passkeys/challenge': { challenge: 'c', options: { publicKey: { rp: { name: 'Maple Lark' } } } }, 'POST /session/passkeys': KEY })
    await page.type('What you call the device', ' Phone ')
    await page.type('Your password, to add a passkey', 'correct horse')
    await page.press('Add a passkey')
  }

  it('are made by the device for what the service asks, and sent with their name', async () => {
    vi.mocked(startRegistration).mockResolvedValueOnce({ id: 'k' } as never)
    const page = await shown(true)
    await add(page)
    expect(vi.mocked(startRegistration)).toHaveBeenLastCalledWith({ optionsJSON: { rp: { name: 'Maple Lark' } } })
    expect(bodies('POST /session/passkeys/challenge')).toEqual([{ password: 'correct horse' }])
    expect(bodies('POST /session/passkeys')).toEqual([{ challenge: 'c', title: 'Phone', answer: { id: 'k' } }])
    expect(messages().join()).toContain('The passkey is added.')
  })

  it('are not sent where the device makes none, and it is said why', async () => {
    const named = (name: string) => Object.assign(new Error('as browsers say it'), { name })
    const known = new WebAuthnError({ message: 'm', code: 'ERROR_AUTHENTICATOR_PREVIOUSLY_REGISTERED', cause: new Error('c') })
    for (const [error, words] of [
      [named('NotAllowedError'), 'cancelled, or took too long'],
      [named('SecurityError'), 'keeps no passkeys for this address'],
      [named('NotSupportedError'), 'cannot keep such a passkey'],
      [named('OtherError'), 'as browsers say it'],
      [known, 'has a passkey of yours already'],
    ] as const) {
      vi.mocked(startRegistration).mockRejectedValueOnce(error)
      const page = await shown(true)
      await add(page)
      expect(page.text()).toContain(words)
      expect(bodies('POST /session/passkeys')).toEqual([])
      page.view.unmount()
    }
  })

  it('are removed after a question, and are not offered where browsers keep none', async () => {
    const page = await shown(false, [KEY])
    expect(page.has('begins with https://')).toBe(true)
    expect(page.has('Add a passkey')).toBe(false)
    answering({ 'DELETE /session/passkeys/{id}': undefined })
    await page.press('Remove Phone')
    expect(await answer('Remove')).toContain('Nobody signs in with it any more')
    expect(asked('DELETE /session/passkeys/{id}').length).toBe(1)
  })
})
