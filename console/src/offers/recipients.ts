/** Whoever an offer is for: a person or a team by its id, or anybody by an address or a handle. */
export interface To {
  key: string
  label: string
  body: Record<string, string>
}

/** Whether somebody can be written to at this. */
export function isAddress(words: string): boolean {
  return /^[^@\s]+@[^@\s]+\.[^@\s]+$/.test(words.trim())
}
