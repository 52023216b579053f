/** What stands before every path, as the service has put it into its page: empty, or such as "/reports". */
export const BASE = globalThis.document?.querySelector<HTMLMetaElement>('meta[name="base"]')?.content ?? ''

/** Where a path of the service is for a browser. */
export const at = (path: string) => BASE + path
