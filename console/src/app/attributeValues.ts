// The value of an attribute in words: of elements their values, of sub-attributes their values.
export function told(value: unknown): string {
  if (value === null || value === undefined) return 'nothing'
  if (Array.isArray(value)) return value.map(told).join(', ') || 'nothing'
  if (typeof value === 'object') {
    const parts = value as Record<string, unknown>
    return String(parts.value ?? Object.values(parts).map(told).join(' '))
  }
  return value === true ? 'yes' : value === false ? 'no' : String(value)
}
