/** What the service answers to a call, by the call's method and path, from its OpenAPI document. */

import type { paths } from './openapi'

type Known = keyof paths
export type Method = 'GET' | 'POST' | 'PUT' | 'PATCH' | 'DELETE'

/** The parts of a path between its slashes. */
type Parts<Path extends string> = Path extends `/${infer First}/${infer Rest}`
  ? [First, ...Parts<`/${Rest}`>]
  : Path extends `/${infer Only}`
    ? [Only]
    : []

/** Whether the parts of a path fit those of a documented one, in which `{ident}` stands for anything. */
type Fits<Given extends string[], Documented extends string[]> = [Given, Documented] extends [
  [infer G extends string, ...infer Gs extends string[]],
  [infer D extends string, ...infer Ds extends string[]],
]
  ? D extends `{${string}}`
    ? Fits<Gs, Ds>
    : [G] extends [D]
      ? Fits<Gs, Ds>
      : false
  : [Given, Documented] extends [[], []]
    ? true
    : false

type DocumentedParts = { [Path in Known]: Path extends `/api/v1${infer Rest}` ? Parts<Rest> : never }

/** The documented path that a path is an instance of. */
type Documented<Path extends string> = `/api/v1${Path}` extends Known
  ? `/api/v1${Path}`
  : { [P in Known]: Fits<Parts<Path>, DocumentedParts[P]> extends true ? P : never }[Known]

type Operation<M extends Method, Path extends string> = paths[Documented<Path>] extends infer Item
  ? Lowercase<M> extends keyof Item
    ? Item[Lowercase<M>]
    : never
  : never

type Content<Responses> = {
  [Status in keyof Responses & (200 | 201 | 202)]: Responses[Status] extends { content: { 'application/json': infer Answer } } ? Answer : never
}[keyof Responses & (200 | 201 | 202)]

/** What the service answers; for a call that is not documented, something that fits nowhere. */
export type Answer<M extends Method, Path extends string> = [Operation<M, Path>] extends [never]
  ? { readonly undocumented: [M, Path] }
  : Operation<M, Path> extends { responses: infer Responses }
    ? Content<Responses>
    : never
