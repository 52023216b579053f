// A frame has none of the console's fonts: its page is set in them all the same.

const FONT_FACE = 5

/** The rules of the console's fonts, with addresses that hold in any page. */
export function letters(sheets: Iterable<CSSStyleSheet>): string {
  const found: string[] = []
  for (const sheet of sheets) {
    let rules: CSSRule[]
    try {
      rules = [...sheet.cssRules]
    } catch {
      // What another place has put here, such as an extension of the browser, cannot be read.
      continue
    }
    for (const rule of rules.filter((one) => one.type === FONT_FACE)) {
      found.push(rule.cssText.replace(/url\("?([^")]+)"?\)/g, (_, address: string) => `url("${new URL(address, sheet.href ?? document.baseURI).href}")`))
    }
  }
  return found.join('\n')
}

/** A page in the console's letters. */
export function inLetters(page: string, sheets: Iterable<CSSStyleSheet> = document.styleSheets): string {
  return page.replace('</head>', () => `<style>${letters(sheets)}</style></head>`)
}
