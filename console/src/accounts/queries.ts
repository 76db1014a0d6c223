/** What more than one place asks about accounts. */

import { get } from '@/service/api'

/** The page of an account. */
export function accountPage(account: () => string | undefined) {
  return {
    key: () => ['account', account() ?? ''],
    query: () => get(`/accounts/${account() ?? ''}`),
    enabled: () => Boolean(account()),
  }
}
