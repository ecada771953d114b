// Times for users: the day is shown only if it is not today.
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' })
const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' })
const year = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })

export function shortTime(text: string): string {
  const at = new Date(text)
  const now = new Date()
  if (at.toDateString() === now.toDateString()) return `${clock.format(at)} today`
  return at.getFullYear() === now.getFullYear() ? `${day.format(at)}, ${clock.format(at)}` : year.format(at)
}

export function isPast(text: string | null | undefined): boolean {
  return text != null && new Date(text) <= new Date()
}

export function wholeTime(text: string): string {
  return `${new Date(text).toString()} (${text})`
}
