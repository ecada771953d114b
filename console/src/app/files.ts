// Files that are created from the page.

/** Returns rows as CSV (RFC 4180); a cell that a spreadsheet would take for a formula begins with an apostrophe. */
export function csvOf(rows: string[][]): string {
  const cell = (text: string) => {
    const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text
    return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe
  }
  return rows.map((row) => `${row.map(cell).join(',')}\r\n`).join('')
}

/** Returns a file as base64. */
export async function encoded(file: File): Promise<string> {
  const bytes = new Uint8Array(await file.arrayBuffer())
  let text = ''
  for (const byte of bytes) text += String.fromCharCode(byte)
  return btoa(text)
}

/** Has the browser save a text as a file. */
export function save(name: string, text: string, kind = 'text/csv'): void {
  const address = URL.createObjectURL(new Blob([text], { type: kind }))
  const link = Object.assign(document.createElement('a'), { href: address, download: name })
  link.click()
  URL.revokeObjectURL(address)
}
