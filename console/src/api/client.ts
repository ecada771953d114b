// Calls to the management API, typed from its OpenAPI document.
import createClient, { type Middleware } from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Problem = Schemas['Problem']

let csrf = ''
let onSignedOut: () => void = () => {}

export function useCsrf(token: string): void {
  csrf = token
}

export function whenSignedOut(act: () => void): void {
  onSignedOut = act
}

const door: Middleware = {
  onRequest({ request }) {
    if (csrf) request.headers.set('X-Dravo-CSRF', csrf)
    return request
  },
  onResponse({ response, request }) {
    if (response.status === 401 && !request.url.endsWith('/api/v1/session')) onSignedOut()
    return response
  },
}

export const api = createClient<paths>({ baseUrl: '/' })
api.use(door)

export class ApiProblem extends Error {
  constructor(
    readonly problem: Problem,
    readonly status: number,
  ) {
    super(problem.message)
  }
}

/** Gives what a call answered, or throws what the service said was wrong. */
export async function answered<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result
  try {
    result = await call
  } catch {
    throw new ApiProblem(
      {
        code: 'unreachable',
        message: 'The service does not answer.',
        mend: 'Is it still running? What you typed is kept.',
      },
      0,
    )
  }
  if (result.response.ok) return result.data as T
  const told = (result.error as { error?: Problem } | undefined)?.error
  throw new ApiProblem(
    told ?? { code: 'unknown', message: `The service answered with ${result.response.status}.`, mend: 'Try again.' },
    result.response.status,
  )
}
