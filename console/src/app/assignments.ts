// Assignments as people read them.
import type { Schemas } from '../api/client'

type Assignment = Schemas['Assignment']

/** For whom an assignment is. */
export function whom(each: Assignment): string {
  if (each.person) return each.person.display_name
  if (each.group) return each.group.name
  if (each.pattern) return `Groups like ${each.pattern}`
  return each.rule ? `Whoever has ${each.rule}` : 'Everybody'
}

/** What an assignment gives. */
export function what(each: Assignment): string {
  if (each.excludes) return 'kept out'
  if (each.role) return each.role.label
  return each.pattern ? 'as the name says' : 'let in'
}

/** Why somebody has a role, in a word or a name. */
export function because(reason: Schemas['Reason']): string {
  if (reason.kind === 'default') return 'the default role'
  if (reason.kind === 'kept') return 'kept'
  if (reason.kind === 'rule') return `rule ${reason.rule}`
  if (reason.kind === 'everybody') return 'everybody'
  return reason.group ? reason.group.name : `direct, by ${reason.by}`
}

/** What goes with a change that was looked at first: what was seen, and the name where it had to be typed. */
export interface Sure {
  confirm: string | null
  expect: Schemas['SeenPreview'] | null
}

export function sure(preview: Schemas['Preview'] | undefined, confirm: string): Sure {
  return {
    confirm: confirm || null,
    expect: preview ? { gained: preview.gained, lost: preview.lost, changed: preview.changed } : null,
  }
}
