/** A review as it is before anything has been chosen. */

import type { ReviewDraft } from '@/reviews/ReviewForm.vue'

export function freshReview(): ReviewDraft {
  return {
    name: '',
    scope: 'account.sensitivity ge 3',
    covers: ['grant', 'link'],
    days_to_decide: 14,
    reviewers: [],
    acts: 'when_decided',
    undecided: { observe: 'keep', operate: 'keep', spend: 'suspend', steward: 'suspend' },
    second_from: null,
    reminders: [7, 1],
    closes_after: null,
  }
}
