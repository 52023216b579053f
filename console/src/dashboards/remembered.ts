// What blocks showed last, to be looked at while a slow source has not answered. It stays in this tab,
// is shown to nobody else who signs in here, and goes when its user signs out.

export interface Remembered {
  page: string
  at: string
}

const PREFIX = 'picture '
/** So many are kept; the oldest goes first. */
const MOST = 40

const keyOf = (whose: string, order: unknown) => `${PREFIX}${whose} ${JSON.stringify(order)}`
const keys = () => Array.from({ length: sessionStorage.length }, (_, i) => sessionStorage.key(i)!).filter((key) => key.startsWith(PREFIX))

function read(key: string): Remembered | null {
  try {
    return JSON.parse(sessionStorage.getItem(key) ?? 'null') as Remembered | null
  } catch {
    return null
  }
}

export function remembered(whose: string, order: unknown): Remembered | null {
  return read(keyOf(whose, order))
}

export function remember(whose: string, order: unknown, page: string, at = new Date().toISOString()): void {
  const key = keyOf(whose, order)
  sessionStorage.removeItem(key)
  const older = keys().sort((a, b) => (read(a)?.at ?? '').localeCompare(read(b)?.at ?? ''))
  while (older.length >= MOST) sessionStorage.removeItem(older.shift()!)
  for (;;) {
    try {
      return sessionStorage.setItem(key, JSON.stringify({ page, at } satisfies Remembered))
    } catch {
      // A tab has little room. What does not fit at all is not kept.
      const oldest = older.shift()
      if (oldest === undefined) return
      sessionStorage.removeItem(oldest)
    }
  }
}

export function forgetPictures(): void {
  keys().forEach((key) => sessionStorage.removeItem(key))
}
