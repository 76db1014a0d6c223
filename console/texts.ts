/** Texts in other languages, put in by the build. What is looked up while it runs has a table. */

import { readFileSync } from 'node:fs'
import { fileURLToPath } from 'node:url'

import PO from 'pofile'
import type { Plugin } from 'vite'

/** The languages besides English; each has a catalogue in "languages", and is built by "vite build --mode". */
const LANGUAGES = ['de']

/** The language that a build is in, by its mode. */
export const languageOf = (mode: string): string => (LANGUAGES.includes(mode) ? mode : 'en')

/** The catalogue of a language. A text that it lacks, one that nothing uses, and a value that one loses fail a build. */
class Catalogue {
  private readonly texts = new Map<string, string[]>()
  private readonly used = new Set<string>()

  constructor(readonly language: string) {
    if (language === 'en') return
    for (const item of PO.parse(readFileSync(fileOf(`./languages/${language}.po`), 'utf8')).items) {
      const lost = item.msgstr.find((text) => valuesIn(text) !== valuesIn(item.msgid))
      if (lost) throw new Error(`languages/${language}.po: "${lost}" has other values than "${item.msgid}".`)
      this.texts.set(`${item.msgctxt ?? ''}|${item.msgid}`, item.msgstr)
    }
  }

  /** A text, in each of its numbers. */
  say(context: string, text: string): string[] {
    const key = `${context}|${text}`
    const found = this.texts.get(key)
    if (!found?.every(Boolean)) throw new Error(`languages/${this.language}.po has nothing for "${text}"; run "npm run texts", and translate it.`)
    this.used.add(key)
    return found
  }

  /** What nothing has asked for. */
  unused(): string[] {
    return [...this.texts.keys()].filter((key) => !this.used.has(key))
  }
}

const fileOf = (path: string): string => fileURLToPath(new URL(path, import.meta.url))

const valuesIn = (text: string): string => [...new Set(text.match(/%\{\w+\}/g) ?? [])].sort().join()

type Node = { type: string; start: number; end: number; name?: string; value?: unknown; callee?: Node; arguments?: Node[] } & Record<string, unknown>

/** What a call of one of the three functions of texts is called; templates call them through Vue's "unref". */
function calledName(node: Node): string | undefined {
  const callee = node.callee?.type === 'CallExpression' ? node.callee.arguments?.[0] : node.callee
  return callee?.type === 'Identifier' ? callee.name : undefined
}

/** Puts the texts of a language in the place of the English ones, so that a page carries no catalogue. */
function translated(catalogue: Catalogue): Plugin {
  const { language } = catalogue
  const say = (context: string, text: string) => catalogue.say(context, text)
  const quote = (text: string) => JSON.stringify(text)
  const edits = (node: Node): [Node, string][] => {
    const [first, second] = node.arguments ?? []
    switch (calledName(node)) {
      case 'gettext':
        return first?.type === 'Literal' ? [[first, say('', String(first.value))[0]!]] : []
      case 'ngettext': {
        const [one, many] = say('', String(first!.value))
        return [[first!, one!], [second!, many!]]
      }
      case 'pgettext':
        return [[second!, say(String(first!.value), String(second!.value))[0]!]]
      default:
        return []
    }
  }
  return {
    name: 'translated',
    enforce: 'post',
    transform(code, id) {
      if (language === 'en' || !id.includes('/console/src/') || !/\.(ts|vue)($|\?)/.test(id) || id.endsWith('/frame/language.ts')) return null
      const found: [Node, string][] = []
      const walk = (node: unknown): void => {
        if (Array.isArray(node)) return node.forEach(walk)
        if (!node || typeof node !== 'object') return
        if ((node as Node).type === 'CallExpression') found.push(...edits(node as Node))
        Object.values(node).forEach(walk)
      }
      walk(this.parse(code))
      for (const [node, text] of found.sort(([a], [b]) => b.start - a.start)) code = code.slice(0, node.start) + quote(text) + code.slice(node.end)
      return { code, map: null }
    },
    buildEnd() {
      const unused = catalogue.unused()
      if (unused.length) this.error(`languages/${language}.po has texts that nothing uses; run "npm run texts": ${unused.join('; ')}`)
    },
    transformIndexHtml: (html) => html.replace('lang="en"', `lang="${language}"`),
  }
}

/** Tables of the service's words in a language: "virtual:words:" and the file that lists them. None in English. */
function tables(catalogue: Catalogue): Plugin {
  const own = 'virtual:words:'
  return {
    name: 'tables',
    resolveId: (id) => (id.startsWith(own) ? `\0${id}` : null),
    load(id) {
      if (!id.startsWith(`\0${own}`)) return null
      if (catalogue.language === 'en') return 'export default {}'
      const listed = readFileSync(fileOf(`./src/${id.slice(own.length + 1)}.ts`), 'utf8')
      const table = Object.fromEntries([...listed.matchAll(/gettext\('([^']+)'\)/g)].map(([, word]) => [word, catalogue.say('', word!)[0]]))
      return `export default ${JSON.stringify(table)}`
    },
  }
}

/** What a build needs to be in a language. */
export function texts(language: string): Plugin[] {
  const catalogue = new Catalogue(language)
  return [translated(catalogue), tables(catalogue)]
}
