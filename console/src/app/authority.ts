// Who decides about the members of groups, in words.
import type { Schemas } from '../api/client'

export type MembersFrom = Schemas['GroupDetail']['members_from']

export const membersFrom: Record<MembersFrom, string> = {
  all: 'Every connection type',
  inbound_scim: 'Inbound SCIM',
  import: 'Import',
  sign_in: 'Sign-in',
  dravo: 'Dravo',
}
