// The signed-in operator.
import { computed, ref } from 'vue'
import { answered, api, useCsrf, type Schemas } from '../api/client'

const session = ref<Schemas['Session'] | null>(null)
let asked = false

export function useSession() {
  return { session, signedIn: computed(() => session.value !== null) }
}

/** Returns whether the signed-in operator has a permission. */
export function useMay(): (permission: string) => boolean {
  return (permission) => session.value?.permissions.includes(permission) ?? false
}

/** Asks the service once whether the browser has a session. */
export async function resume(): Promise<boolean> {
  if (session.value || asked) return session.value !== null
  asked = true
  try {
    set(await answered(api.GET('/api/v1/session')))
  } catch {
    set(null)
  }
  return session.value !== null
}

/** Reloads the permissions of the signed-in operator. */
export async function askAgain(): Promise<void> {
  set(await answered(api.GET('/api/v1/session')))
}

export async function signIn(name: string, password: string, proof: Schemas['ProofRequest']): Promise<void> {
  set(await answered(api.POST('/api/v1/session', { body: { name, password, ...proof } })))
}

/** Signs out; returns whether the browser goes to the provider to sign out there too. */
export async function signOut(): Promise<boolean> {
  const { go_to: onward } = await answered(api.DELETE('/api/v1/session'))
  set(null)
  if (onward) location.assign(onward)
  return onward !== ''
}

export function forget(): void {
  set(null)
}

function set(told: Schemas['Session'] | null): void {
  session.value = told
  useCsrf(told?.csrf ?? '')
}
