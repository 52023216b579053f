// What devices that keep passkeys say, in words.
import { WebAuthnError, type startAuthentication, type startRegistration } from '@simplewebauthn/browser'

/** What a device is asked that is to keep a passkey. */
export type Creation = Parameters<typeof startRegistration>[0]['optionsJSON']
/** What a device is asked that has one. */
export type Request = Parameters<typeof startAuthentication>[0]['optionsJSON']

/** Why there is no passkey: what the browser or the service says, in words for people. */
export function deviceWords(refused: unknown): string {
  if (refused instanceof WebAuthnError && refused.code === 'ERROR_AUTHENTICATOR_PREVIOUSLY_REGISTERED') return 'This device has a passkey of yours already.'
  const name = refused instanceof Error ? refused.name : ''
  if (name === 'NotAllowedError' || name === 'AbortError') return 'It was cancelled, or took too long. Try again, or sign in another way.'
  if (name === 'SecurityError') return 'The browser keeps no passkeys for this address. Open the console by its public address.'
  if (name === 'NotSupportedError') return 'This device cannot keep such a passkey. Take another one.'
  return refused instanceof Error ? refused.message : String(refused)
}
