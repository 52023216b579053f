import { expect, it } from 'vitest'

import { inLetters, letters } from '../src/dashboards/letters'

const rule = (type: number, cssText: string) => ({ type, cssText }) as CSSRule
const sheet = (href: string | null, ...cssRules: CSSRule[]) => ({ href, cssRules }) as unknown as CSSStyleSheet

it('takes the fonts of the console along, with addresses that hold in a frame', () => {
  const own = sheet('http://console.example/assets/index.css', rule(1, 'body { color: red }'), rule(5, '@font-face { font-family: Inter; src: url("./inter.woff2") format("woff2"), url(/old.woff) }'))
  const foreign = {
    get cssRules(): CSSRuleList {
      throw new DOMException('of another origin', 'SecurityError')
    },
  } as CSSStyleSheet
  const found = letters([foreign, own])
  expect(found).toBe('@font-face { font-family: Inter; src: url("http://console.example/assets/inter.woff2") format("woff2"), url("http://console.example/old.woff") }')
  const page = inLetters('<html><head><title>$&</title></head><body></head></body></html>', [own])
  expect(page).toBe(`<html><head><title>$&</title><style>${found}</style></head><body></head></body></html>`)
})
