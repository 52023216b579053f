import { describe, expect, it } from 'vitest'

import { auditMark, auditQuery, browserWords, heldFrom, heldWords, passwordProblem, roleLabel, ROLES, scopeLabel, SCOPES, userState } from '../src/users/words'

describe('users in words', () => {
  it('says at a glance whether somebody can sign in', () => {
    const none = { signs_in_by: 'password' as never, left_at: null, disabled_at: null, has_password: false, invited_until: null }
    expect(userState(none).word).toBe('Invitation ended')
    expect(userState({ ...none, invited_until: '2026-11-30T00:00:00Z' }).word).toBe('Invited')
    expect(userState({ ...none, has_password: true, invited_until: '2026-11-30T00:00:00Z' }).word).toBe('Active')
    expect(userState({ ...none, signs_in_by: 'directory' as never }).word).toBe('Active')
    expect(userState({ ...none, signs_in_by: 'provider' as never, left_at: '2026-11-01T00:00:00Z' }).word).toBe('Left the organisation')
    expect(userState({ ...none, has_password: true, disabled_at: '2026-11-01T00:00:00Z' })).toEqual({ mark: '◇', word: 'Disabled', tone: 'quiet' })
  })

  it('writes values that somebody is held to a line a parameter, and reads them back', () => {
    const held = { port: ['havnes', 'skarvoy'], customer: ['7'] }
    expect(heldWords(held)).toBe('port = havnes, skarvoy\ncustomer = 7')
    expect(heldFrom(heldWords(held))).toEqual(held)
    expect(heldFrom(' port=havnes , \n\n')).toEqual({ port: ['havnes'] })
    expect(heldFrom('')).toEqual({})
    // A value may have a sign that also stands between a parameter and its values.
    expect(heldFrom('link = a=b')).toEqual({ link: ['a=b'] })
    for (const wrong of ['port', 'port =', '= havnes']) expect(heldFrom(wrong)).toContain('port = havnes, skarvoy')
  })

  it('names the browser behind a session', () => {
    expect(browserWords('Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/150.0.0.0 Safari/537.36')).toBe('Chromium on Linux')
    expect(browserWords('Mozilla/5.0 (iPhone; CPU iPhone OS 18_0 like Mac OS X) AppleWebKit/605 Version/18 Mobile/15E148 Safari/604.1')).toBe('Safari on iOS')
    expect(browserWords('Mozilla/5.0 (Windows NT 10.0; rv:140.0) Gecko/20100101 Firefox/140.0')).toBe('Firefox on Windows')
    expect(browserWords('a program')).toBe('a program')
    expect(browserWords('x'.repeat(80))).toHaveLength(41)
    expect(browserWords(null)).toContain('does not say')
  })

  it('says what is wrong with a password before it is sent', () => {
    expect(passwordProblem('short', 'short')).toContain('10 characters')
    expect(passwordProblem('ferry tide lantern', 'ferry tide lamp')).toBe('The two are not alike.')
    expect(passwordProblem('ferry tide lantern', 'ferry tide lantern')).toBeNull()
  })

  it('says what each role may do', () => {
    expect(ROLES.map((role) => role.value)).toEqual(['viewer', 'author', 'administrator'])
    expect(roleLabel(ROLES[1]!.value)).toBe('Author')
  })

  it('says what a token is good for', () => {
    expect(SCOPES.map((scope) => scopeLabel(scope.value))).toEqual(['looking', 'looking and running reports', 'all that you may do'])
    expect(scopeLabel('agenda' as never)).toBe('agenda')
  })

  it('asks the audit trail for what is chosen, the last day with it', () => {
    const none = { user: '', text: '', outcome: '', from: '', to: '' }
    expect(auditQuery(none)).toEqual({})
    const found = auditQuery({ user: ' runa ', text: '', outcome: 'refused', from: '2026-11-01', to: '2026-11-30' })
    expect(found).toEqual({ user: 'runa', outcome: 'refused', from: new Date(2026, 10, 1).toISOString(), to: new Date(2026, 11, 1).toISOString() })
    // Element Plus gives null for a day that is cleared.
    expect(auditQuery({ ...none, from: null as never })).toEqual({})
    expect(['done', 'refused', 'failed'].map((outcome) => auditMark(outcome).mark)).toEqual(['●', '◆', '▲'])
  })
})
