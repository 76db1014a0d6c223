/** A list that is searched, filtered, sorted and paged, with its state in the page's address. */

import { useQuery } from '@pinia/colada'
import { computed, ref, watch, type ComputedRef, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { getAs } from '@/service/api'
import type { Rows } from '@/service/types'

export interface ListState<T> {
  rows: ComputedRef<T[]>
  count: ComputedRef<number | null>
  status: Ref<'pending' | 'success' | 'error'>
  error: Ref<Error | null>
  search: Ref<string>
  filter: Ref<string>
  sort: Ref<string>
  hasMore: ComputedRef<boolean>
  hasLess: ComputedRef<boolean>
  more: () => void
  less: () => void
  refetch: () => void
  /** The ids of all that match, of no more than `most`. */
  all: (most: number) => Promise<string[]>
}

const LIMIT = 30

/** The list called `name`; `start` is the filter that it opens with, `limit` how many rows a page has. */
export function useList<T>(name: string, start: string = '', path: string = `/${name}`, limit: number = LIMIT): ListState<T> {
  const route = useRoute()
  const router = useRouter()
  const search = ref(String(route.query.search ?? ''))
  const filter = ref(String(route.query.filter ?? start))
  const sort = ref(String(route.query.sort ?? ''))
  const cursors = ref<string[]>([])

  watch([search, filter, sort], () => {
    cursors.value = []
    const query = { search: search.value || undefined, filter: filter.value === start ? undefined : filter.value, sort: sort.value || undefined }
    void router.replace({ query })
  })

  const found = useQuery({
    key: () => [name, path, search.value, filter.value, sort.value, cursors.value.at(-1) ?? ''],
    query: () =>
      getAs<Rows<T>>(path, {
        search: search.value,
        filter: filter.value,
        sort: sort.value,
        cursor: cursors.value.at(-1),
        limit,
        count: true,
      }),
    placeholderData: (before) => before,
  })

  return {
    rows: computed(() => found.data.value?.rows ?? []),
    count: computed(() => found.data.value?.count ?? null),
    status: found.status,
    error: found.error,
    search,
    filter,
    sort,
    hasMore: computed(() => Boolean(found.data.value?.next)),
    hasLess: computed(() => cursors.value.length > 0),
    more: () => {
      if (found.data.value?.next) cursors.value = [...cursors.value, found.data.value.next]
    },
    less: () => {
      cursors.value = cursors.value.slice(0, -1)
    },
    refetch: () => void found.refetch(),
    all: async (most) => {
      const ids: string[] = []
      let cursor: string | undefined
      do {
        const page: Rows<T> = await getAs<Rows<T>>(path, { search: search.value, filter: filter.value, cursor, limit: Math.min(most - ids.length, 500) })
        ids.push(...page.rows.map((row) => (row as { id: string }).id))
        cursor = page.next || undefined
      } while (cursor && ids.length < most)
      return ids
    },
  }
}
