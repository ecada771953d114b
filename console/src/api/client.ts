// Calls to the management API, typed from its OpenAPI document.
import createClient, { type Middleware } from 'openapi-fetch'
import { begin, end, underWay } from '../app/jobs'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Problem = Schemas['Problem']

const WORK = 'Dravo-Job'
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
    if (request.method === 'POST' || request.method === 'PUT' || request.method === 'PATCH')
      request.headers.set(WORK, begin(request.url).name)
    return request
  },
  onError({ request }) {
    end(request.headers.get(WORK))
  },
  onResponse({ response, request }) {
    end(request.headers.get(WORK))
    // Sessions of users are separate from sessions of operators.
    if (response.status === 401 && !/\/api\/v1\/(session|me\/)/.test(request.url)) onSignedOut()
    return response
  },
}

export const api = createClient<paths>({ baseUrl: '/' })
api.use(door)

/** Cancels pending previews, because their values changed. */
export function stopPreviews(): void {
  for (const each of underWay.filter((work) => work.url.endsWith('/preview')))
    void api.DELETE('/api/v1/jobs/{id}', { params: { path: { id: each.name } } })
}

export class ApiProblem extends Error {
  constructor(
    readonly problem: Problem,
    readonly status: number,
  ) {
    super(problem.message)
  }
}

/** Returns the answer of a call, or throws the error of the service. */
export async function answered<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let result
  try {
    result = await call
  } catch {
    throw new ApiProblem(
      {
        code: 'unreachable',
        message: 'The service does not answer.',
        hint: 'Check that the service is running. Your input is kept.',
      },
      0,
    )
  }
  if (result.response.ok) return result.data as T
  const told = (result.error as { error?: Problem } | undefined)?.error
  throw new ApiProblem(
    told ?? {
      code: 'unknown',
      message: `The service answered with ${result.response.status}.`,
      hint: 'Try again.',
    },
    result.response.status,
  )
}
