/** What more than one place asks about levels. */

import type { UseQueryOptions } from '@pinia/colada'

import { get } from '@/service/api'
import type { LevelRow, Rows } from '@/service/types'

/** As many levels as a choice among them can show. */
const MOST = 200

/** The levels of a system that can be chosen: whole ones, not those of a single permission. */
export function levelsOf(system: () => string | null | undefined, isWanted: () => boolean = () => true): UseQueryOptions<Rows<LevelRow>> {
  return {
    key: () => ['levels', 'of', system() ?? ''],
    query: () => get('/levels', { filter: `system.id eq "${system()}" and single eq false`, limit: MOST }),
    enabled: () => Boolean(system()) && isWanted(),
  }
}

/** Every permission of a system, by its key and in words. */
export function permissionsOf(system: () => string | null | undefined, isWanted: () => boolean = () => true) {
  return {
    key: () => ['levels', 'permissions', system() ?? ''],
    query: () => get(`/systems/${system() ?? ''}/permissions`),
    enabled: () => Boolean(system()) && isWanted(),
  }
}
