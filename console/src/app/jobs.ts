// Work that one waits for, such as a preview of everyone: under which name it goes, how far it is, and stopping it.
import { reactive } from 'vue'

export interface Work {
  name: string
  url: string
  since: number
}

/** What was asked of the service and not answered yet, but for what only reads. */
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
