// Passkeys of the browser (Web Authentication). The library is loaded at the first use.
import type { Schemas } from '../api/client'

type Response = Schemas['PasskeyResponse']

/** Has the browser create a passkey for a challenge. */
export async function createPasskey(challenge: Schemas['PasskeyChallenge']): Promise<Response> {
  const { startRegistration } = await import('@simplewebauthn/browser')
  const credential = await startRegistration({ optionsJSON: challenge.options as never })
  return { state: challenge.state, credential: { ...credential } }
}

/** Has the browser answer a challenge with a passkey. */
export async function usePasskey(challenge: Schemas['PasskeyChallenge']): Promise<Response> {
  const { startAuthentication } = await import('@simplewebauthn/browser')
  const credential = await startAuthentication({ optionsJSON: challenge.options as never })
  return { state: challenge.state, credential: { ...credential } }
}

/** Why passkeys cannot be used on this page, or "". */
export function passkeysUnavailable(at: string): string {
  if (!at) return 'Passkeys need a domain name; this service is reached by an IP address.'
  if (location.origin !== at) return `Open Dravo at ${at} to use passkeys.`
  return window.PublicKeyCredential ? '' : 'This browser has no passkeys.'
}
