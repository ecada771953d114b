// Long requests, such as a preview of all users: their name, progress and cancellation.
import { reactive } from 'vue'

export interface Work {
  name: string
  url: string
  since: number
}

/** Pending requests that change something. */
export const underWay: Work[] = reactive([])

export function begin(url: string): Work {
  const signs = crypto.getRandomValues(new Uint32Array(4))
  const work = {
    name: Array.from(signs, (each) => each.toString(16).padStart(8, '0')).join(''),
    url,
    since: Date.now(),
  }
  underWay.push(work)
  return work
}

export function end(name: string | null): void {
  const place = underWay.findIndex((each) => each.name === name)
  if (place >= 0) underWay.splice(place, 1)
}
