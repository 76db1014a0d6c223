/** Who reaches an account by which path, laid out to be drawn: people on the left, the account on the right. */

import { gettext, ngettext } from '@/frame/language'
import type { Path } from '@/service/types'

export interface Node {
  id: string
  label: string
  note: string
  kind: string
  count: number
  reach: number
  outside: boolean
  column: number
  x: number
  y: number
  height: number
  names: string[]
}

export interface Link {
  from: string
  to: string
  reach: number
  count: number
  via: string
  /** Where it crosses the columns that it passes over: between what stands there. */
  over: { x: number; y: number }[]
}

export interface Picture {
  nodes: Node[]
  links: Link[]
  width: number
  height: number
}

/** From so many holders with the same way in on, they are drawn as one bundle. */
export const BUNDLED_FROM = 9
const ROW = 40
/** The room between two rows for ways that pass over a column. */
const LANE = 14
const COLUMN = 330

/** So many holders of a kind. */
function holders(kind: string, n: number): string {
  if (kind === 'person') return ngettext('%{n} person', '%{n} people', n)
  if (kind === 'app') return ngettext('%{n} app', '%{n} apps', n)
  if (kind === 'team') return ngettext('%{n} team', '%{n} teams', n)
  return ngettext('%{n} account', '%{n} accounts', n)
}

interface Step {
  id: string
  label: string
  kind: string
}

/** The holders that a path runs through, first to last. */
function stepsOf(path: Path): Step[] {
  return path.hops.map((hop) => ({ id: `${hop.holder.kind}:${hop.holder.id}`, label: hop.holder.name ?? '', kind: hop.holder.kind }))
}

/** People who get in by access rules, and not by a grant: everyone of one kind is drawn as one. */
export interface Outsiders {
  label: string
  note: string
  reach: number
  count: number
  names: string[]
}

/** Lay paths out. Holders that come in the same way, as far, become one bundle when there are many of them. */
export function picture(paths: Path[], account: string, outsiders: Outsiders[] = []): Picture {
  const nodes = new Map<string, Node>()
  const links = new Map<string, Link>()
  const bundles = new Map<string, { path: Path; steps: Step[] }[]>()
  for (const path of paths) {
    const steps = stepsOf(path)
    const way = steps.slice(1).map((step) => step.id).join('>')
    const key = [way, path.level, path.reach, path.holder.kind, path.holder.inside === false].join('|')
    bundles.set(key, [...(bundles.get(key) ?? []), { path, steps }])
  }
  const end: Node = { id: 'account', label: account, note: '', kind: 'account', count: 1, reach: 0, outside: false, column: 0, x: 0, y: 0, height: ROW, names: [] }
  nodes.set(end.id, end)
  for (const [key, members] of bundles) {
    const isBundle = members.length >= BUNDLED_FROM
    for (const [index, { path, steps }] of (isBundle ? members.slice(0, 1) : members).entries()) {
      const chain = steps.map((step) => step.id)
      if (isBundle) chain[0] = `bundle:${key}`
      chain.forEach((id, place) => {
        const step = steps[place] as Step
        const first = place === 0
        const held = nodes.get(id)
        const column = chain.length - place
        if (held) {
          held.column = Math.max(held.column, column)
          held.reach = Math.max(held.reach, path.reach)
          return
        }
        const note = place === chain.length - 1 ? path.level : ''
        nodes.set(id, {
          id, column, kind: step.kind, note, reach: path.reach, x: 0, y: 0, height: ROW,
          label: first && isBundle ? holders(step.kind, members.length) : step.label,
          count: first && isBundle ? members.length : 1,
          outside: first && path.holder.inside === false,
          names: first && isBundle ? members.map((member) => member.path.holder.name ?? '') : [],
        })
      })
      chain.forEach((id, place) => {
        const to = chain[place + 1] ?? 'account'
        const via = place === chain.length - 1 ? (path.part ? gettext('%{level} on %{part}', { level: path.level, part: path.part }) : path.level) : 'belongs'
        const link = links.get(`${id}>${to}`)
        if (link) link.reach = Math.max(link.reach, path.reach)
        else links.set(`${id}>${to}`, { from: id, to, reach: path.reach, count: isBundle ? members.length : 1, via, over: [] })
      })
      if (isBundle && index === 0) break
    }
  }
  for (const { label, note, reach, count, names } of outsiders) {
    const id = `outsiders:${label}`
    nodes.set(id, { id, label, note, reach, names, kind: 'rule', count, outside: true, column: 1, x: 0, y: 0, height: ROW })
    links.set(`${id}>account`, { from: id, to: 'account', reach, count, via: note, over: [] })
  }
  return placed([...nodes.values()], [...links.values()])
}

/** In each column one lane for all ways to the same end that pass over it; those that reach far have one of their own. */
function lanes(nodes: Node[], links: Link[]): { lane: Node; link: Link }[] {
  const column = new Map(nodes.map((node) => [node.id, node.column]))
  const made = new Map<string, Node>()
  return links.flatMap((link) => {
    const crossed = []
    for (let at = (column.get(link.from) ?? 0) - 1; at > (column.get(link.to) ?? 0); at--) {
      const id = `lane:${link.to}:${at}:${link.reach >= 3}`
      const lane = made.get(id) ?? { id, label: '', note: '', kind: 'lane', count: 1, reach: link.reach, outside: false, column: at, x: 0, y: 0, height: LANE, names: [] }
      made.set(id, lane)
      crossed.push({ lane, link })
    }
    return crossed
  })
}

function placed(nodes: Node[], links: Link[]): Picture {
  const crossed = lanes(nodes, links)
  const standing = [...nodes, ...new Set(crossed.map(({ lane }) => lane))]
  const last = Math.max(...nodes.map((node) => node.column), 1)
  const rows = new Map<number, number>()
  const next = new Map([...links.map((link) => [link.from, link.to] as const), ...crossed.map(({ lane, link }) => [lane.id, link.to] as const)])
  const rank = (node: Node): number => -node.reach * 1000 - node.count
  // From the account outward, so that whoever comes in by a team stands beside it.
  const order = new Map<string, number>([['account', 0]])
  for (let column = 1; column <= last; column++) {
    const here = standing.filter((node) => node.column === column)
    here.sort((a, b) => (order.get(next.get(a.id) ?? '') ?? 0) - (order.get(next.get(b.id) ?? '') ?? 0) || rank(a) - rank(b) || a.label.localeCompare(b.label))
    here.forEach((node, index) => {
      order.set(node.id, index)
      if (node.kind !== 'lane') node.height = ROW + Math.min(Math.sqrt(node.count - 1) * 4, 60)
    })
    let y = 0
    for (const node of here) {
      node.y = y + node.height / 2
      y += node.height
    }
    rows.set(column, y)
  }
  const height = Math.max(...rows.values(), ROW * 2)
  for (const node of standing) {
    node.x = (last - node.column) * COLUMN
    if (node.column > 0) node.y += (height - (rows.get(node.column) ?? 0)) / 2
    else node.y = height / 2
  }
  for (const { lane, link } of crossed) link.over.push({ x: lane.x, y: lane.y })
  return { nodes, links, width: last * COLUMN + 260, height }
}

/** The same seen from a person's side: the accounts come first, and all ways end at the person. */
export function fromPerson(paths: Path[]): Path[] {
  return paths.map((path) => {
    const account = { kind: 'account' as const, id: path.account.id, name: path.account.name, inside: true, standing: null }
    const between = path.hops.slice(1).reverse()
    return { ...path, holder: account, hops: [{ kind: 'holds', words: '', grant_id: path.grant_id, holder: account }, ...between] }
  })
}

/** Turned round, so that what all ways end at stands on the left. */
export function mirrored(picture: Picture, pill: number): Picture {
  const turn = <At extends { x: number }>(at: At): At => ({ ...at, x: picture.width - pill - at.x })
  return { ...picture, nodes: picture.nodes.map(turn), links: picture.links.map((link) => ({ ...link, from: link.to, to: link.from, over: link.over.map(turn).reverse() })) }
}

/** Everything on a way through any of some nodes. */
export function throughAny(links: Link[], ids: string[]): Set<string> {
  const ahead = new Set(ids)
  const behind = new Set(ids)
  for (let grown = true; grown;) {
    grown = false
    for (const link of links) {
      if (ahead.has(link.from) && !ahead.has(link.to)) grown = Boolean(ahead.add(link.to))
      if (behind.has(link.to) && !behind.has(link.from)) grown = Boolean(behind.add(link.from))
    }
  }
  return new Set([...ahead, ...behind])
}

/** The node beside one in the direction of an arrow key; the same where there is none. */
export function beside(nodes: Node[], from: string | null, key: string): string | null {
  const here = nodes.find((node) => node.id === from)
  if (!here) return nodes.find((node) => node.id === 'account')?.id ?? null
  const away = (node: Node) => ({ x: node.x - here.x, y: node.y - here.y })
  const isThere: Record<string, (node: Node) => boolean> = {
    ArrowUp: (node) => away(node).x === 0 && away(node).y < 0,
    ArrowDown: (node) => away(node).x === 0 && away(node).y > 0,
    ArrowLeft: (node) => away(node).x < 0,
    ArrowRight: (node) => away(node).x > 0,
  }
  const far = (node: Node) => Math.abs(away(node).x) * 10 + Math.abs(away(node).y)
  return nodes.filter(isThere[key] ?? (() => false)).sort((a, b) => far(a) - far(b))[0]?.id ?? from
}
