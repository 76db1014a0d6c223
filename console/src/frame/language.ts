/** What may stand in a text; nothing is written for what is not known. */
export type Values = Record<string, unknown>

/** The languages that the console is built in, each by itself: texts of another are put in by the build. */
export const LANGUAGES = ['en', 'de'] as const
export type Language = (typeof LANGUAGES)[number]

const COOKIE = 'openlatch_language'
const RELOADED = 'openlatch reloaded for'

/** The language of a locale such as "de-AT"; undefined where the console is not written in it. */
export function languageOf(locale: string | null | undefined): Language | undefined {
  return LANGUAGES.find((one) => one === locale?.toLowerCase().split('-')[0])
}

/** The language of this page. */
export const language: Language = languageOf(import.meta.env.MODE) ?? 'en'

/** A word in a table of the build, which has none in English. */
export function lookUp(table: Record<string, string>, word: string): string {
  return Object.hasOwn(table, word) ? (table[word] ?? word) : word
}

const plurals = new Intl.PluralRules(language)

/**
 * Sees to it that pages come in the language of a person's locale; without one, in what the browser asks for.
 *
 * The service chooses by a cookie; the page is loaded anew where it is in another language.
 */
export function changeLanguage(locale: string | null | undefined): void {
  const wanted = languageOf(locale)
  const secure = window.location.protocol === 'https:' ? '; secure' : ''
  document.cookie = `${COOKIE}=${wanted ?? ''}; path=/; max-age=${wanted ? 31_536_000 : 0}; samesite=lax${secure}`
  const asked = navigator.languages.map(languageOf).find((one) => one) ?? 'en'
  const goal = wanted ?? asked
  // Once: what lies between may answer in another language all the same.
  if (goal === language || sessionStorage.getItem(RELOADED) === goal) return
  sessionStorage.setItem(RELOADED, goal)
  window.location.reload()
}

/** A text in the reader's language; %{name} stands for a value. */
export function gettext(text: string, values: Values = {}): string {
  return text.replace(/%\{(\w+)\}/g, (_all, name: string) => String(values[name] ?? ''))
}

/** A text that counts, in the right number; %{n} is the count. */
export function ngettext(one: string, many: string, n: number, values: Values = {}): string {
  return gettext(plurals.select(n) === 'one' ? one : many, { n, ...values })
}

/** A text that means something else elsewhere; the context says which meaning it is. */
export function pgettext(_context: string, text: string, values: Values = {}): string {
  return gettext(text, values)
}
