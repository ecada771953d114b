/** Returns a status or kind in words: the API's values have underscores. */
export function inWords(value: string | null | undefined): string {
  return (value ?? '').replaceAll('_', ' ')
}
