/** Files that are made here, for people to keep. */

/** Offers a value as a JSON file. */
export function saveFile(name: string, value: unknown): void {
  saveText(name, JSON.stringify(value, null, 2), 'application/json')
}

/** Offers a text as a file. */
export function saveText(name: string, text: string, type: string): void {
  const address = URL.createObjectURL(new Blob([text], { type }))
  const link = document.createElement('a')
  link.href = address
  link.download = name
  link.click()
  URL.revokeObjectURL(address)
}
