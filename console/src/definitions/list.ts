// Definitions of every kind in one list.
import type { RouteLocationRaw } from 'vue-router'

import type { Schemas } from '../api/client'
import { FORMS } from '../forms/fields'

export const KINDS = [
  { kind: 'report', word: 'report', plural: 'Reports' },
  { kind: 'dashboard', word: 'dashboard', plural: 'Dashboards' },
  { kind: 'source', word: 'source', plural: 'Sources' },
  { kind: 'sampler', word: 'sampler', plural: 'Samplers' },
  { kind: 'person', word: 'person', plural: 'People' },
  { kind: 'group', word: 'group', plural: 'Groups' },
  { kind: 'channel', word: 'channel', plural: 'Channels' },
  { kind: 'message-template', word: 'message template', plural: 'Message templates' },
  { kind: 'theme', word: 'theme', plural: 'Themes' },
  { kind: 'calendar', word: 'calendar', plural: 'Calendars' },
  { kind: 'template', word: 'template', plural: 'Templates' },
]
export const kindWords = (kind: string): string => KINDS.find((one) => one.kind === kind)?.word ?? kind

/** Those of a kind in whose name, title or file all the words are, by kind and title. */
export function filtered(all: Schemas['DefinitionName'][], kind: string, search: string): Schemas['DefinitionName'][] {
  const words = search.toLowerCase().split(/\s+/).filter(Boolean)
  const place = (one: { kind: string }) => KINDS.findIndex((known) => known.kind === one.kind)
  return all
    .filter((one) => (!kind || one.kind === kind) && words.every((word) => `${one.name} ${one.title} ${one.file}`.toLowerCase().includes(word)))
    .sort((one, other) => place(one) - place(other) || one.title.localeCompare(other.title, 'en', { numeric: true }))
}

/** Where a definition is changed. */
export function editorOf(one: { kind: string; name: string }): RouteLocationRaw {
  if (one.kind === 'dashboard') return { name: 'edit-dashboard', params: { name: one.name } }
  if (one.kind === 'report') return { name: 'report', params: { name: one.name } }
  return { name: one.kind in FORMS ? 'form' : 'definition', params: { kind: one.kind, name: one.name } }
}
