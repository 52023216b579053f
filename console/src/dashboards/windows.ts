// The windows that a dashboard can be looked at for.
export const WINDOWS: { value: string; label: string; keys?: Record<string, string> }[] = [
  { value: 'hour', label: 'Previous hour', keys: { previous: 'hour' } },
  { value: 'day', label: 'Previous day', keys: { previous: 'day' } },
  { value: 'week', label: 'Previous week', keys: { previous: 'week' } },
  { value: 'month', label: 'Previous month', keys: { previous: 'month' } },
  { value: 'PT6H', label: 'Last 6 hours', keys: { last: 'PT6H' } },
  { value: 'PT24H', label: 'Last 24 hours', keys: { last: 'PT24H' } },
  { value: 'P7D', label: 'Last 7 days', keys: { last: 'P7D' } },
  { value: 'today', label: 'Today so far', keys: { 'to-date': 'day' } },
  { value: 'between', label: 'Between two dates' },
]
/** The keys of a window, as a report has them. */
export const windowKeys = (value: string, days: [string, string] | null): Record<string, string> => WINDOWS.find((one) => one.value === value)?.keys ?? (days ? { interval: days.join('/') } : { previous: 'day' })
