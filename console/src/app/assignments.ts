// Assignments as users read them.
import type { Schemas } from '../api/client'

type Assignment = Schemas['Assignment']

/** Returns who has an assignment: a user, a group, a pattern, a rule or all users. */
export function assignedTo(each: Assignment): string {
  if (each.user) return each.user.display_name
  if (each.group) return each.group.name
  if (each.pattern) return `Groups that match ${each.pattern}`
  if (each.expression) return `Users by ${each.expression}`
  return each.rule ? `Users who match ${each.rule}` : 'Everyone'
}

/** Returns the role or access of an assignment. */
export function what(each: Assignment): string {
  if (each.excludes) return 'excluded'
  if (each.role) return each.role.label
  if (each.expression) return 'from the expression'
  return each.pattern ? 'from the group name' : 'access without a role'
}

/** Returns the reason for a role in a word or a name. */
export function because(reason: Schemas['Reason']): string {
  if (reason.kind === 'fallback') return 'fallback role'
  if (reason.kind === 'retained') return 'retained'
  if (reason.kind === 'rule') return `rule ${reason.rule}`
  if (reason.kind === 'expression') return `expression ${reason.rule}`
  if (reason.kind === 'everyone') return 'everyone'
  return reason.group ? reason.group.name : `assigned by ${reason.by}`
}

/** The confirmation of a previewed change: the seen counts, and the typed name if required. */
export interface Confirmation {
  confirm: string | null
  expect: Schemas['ConfirmedPreview'] | null
}

export function confirmationOf(preview: Schemas['Preview'] | undefined, confirm: string): Confirmation {
  return {
    confirm: confirm || null,
    expect: preview ? { gained: preview.gained, lost: preview.lost, changed: preview.changed } : null,
  }
}
