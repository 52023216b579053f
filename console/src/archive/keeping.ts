// How long things are kept: the fields of the policy, and what goes by it, in words.
import type { Schemas } from '../api/client'
import { size } from '../words'

export type Policy = Schemas['KeepPolicy']
export type Going = Schemas['GoingView']

export interface Fields {
  documents: string
  snapshots: string
  records: string
  at_least: string
  most_runs: number | undefined
  most_megabytes: number | undefined
}

const UNITS: [RegExp, string][] = [
  [/^P(\d+)Y$/, 'year'],
  [/^P(\d+)M$/, 'month'],
  [/^P(\d+)W$/, 'week'],
  [/^P(\d+)D$/, 'day'],
]

/** A length of time as people say it; one of several units stays as it is written. */
export function spanWords(span: string): string {
  for (const [form, unit] of UNITS) {
    const count = form.exec(span)?.[1]
    if (count) return `${count} ${unit}${count === '1' ? '' : 's'}`
  }
  return span
}

export const fieldsOf = (policy: Policy): Fields => ({
  documents: spanWords(policy.documents ?? ''),
  snapshots: spanWords(policy.snapshots ?? ''),
  records: spanWords(policy.records ?? ''),
  at_least: spanWords(policy.at_least ?? ''),
  most_runs: policy.most_runs ?? undefined,
  most_megabytes: policy.most_megabytes ?? undefined,
})

/** What was filled in; what is empty is kept for good. */
export function policyOf(fields: Fields): Policy {
  const policy: Policy = {}
  for (const key of ['documents', 'snapshots', 'records', 'at_least'] as const) {
    const text = fields[key].trim()
    if (text) policy[key] = text
  }
  if (fields.most_runs) policy.most_runs = fields.most_runs
  if (fields.most_megabytes) policy.most_megabytes = fields.most_megabytes
  return policy
}

export const WHY: Record<Going['why'], string> = { age: 'old enough', number: 'more runs than are kept', size: 'more room than there is' }

/** What goes, counted by what it is: "documents of 12 runs, snapshots of 3 runs (4.1 MB)". */
export function goingWords(list: Schemas['GoingList']): string {
  if (!list.items.length) return 'Nothing goes.'
  const parts = (['documents', 'snapshots', 'record'] as const).flatMap((what) => {
    const count = list.items.filter((one) => one.what === what).length
    const runs = `${count} run${count === 1 ? '' : 's'}`
    return count ? [what === 'record' ? `the record${count === 1 ? '' : 's'} of ${runs}` : `${what} of ${runs}`] : []
  })
  return `${parts.join(', ')}${list.more ? ' and more' : ''} (${size(list.bytes)})`
}
