// The definitions as the app goes by them, in the language of whoever holds the device.
import type { BrowserStore, Grade } from 'homing-device/browser'
import { shallowRef } from 'vue'
import { schemaOf, isLine, isPoint, type FieldLike } from '../../faces/schema'
import { language } from './settings'

export interface Field extends FieldLike {
  again?: boolean
  when?: string
}

export interface Definition {
  collection: string
  version: number
  title: string
  description?: string
  fields: Field[]
  parent?: { collection: string; field: string; removal: 'restrict' | 'remove' | 'keep' }
  sync: { direction?: string; keep?: string }
  attention?: { say: string; grade: Grade }[]
  coverage?: { place: string; period: string; complete?: string }
  languages?: { [tag: string]: Wording }
}

interface Wording {
  title?: string
  description?: string
  fields?: {
    [name: string]: {
      title?: string
      description?: string
      choices?: { [value: string]: string }
      parts?: { [name: string]: string }
    }
  }
  attention?: { [say: string]: string }
}

const all = shallowRef<Definition[]>([])

/** Reads the definitions that the device has. */
export async function loadDefinitions(store: BrowserStore) {
  const names = (await store.collections()).map((one) => one.name)
  all.value = await Promise.all(
    names.map(async (name) => worded(JSON.parse(await store.definition(name)) as Definition)),
  )
}

export const definitions = () => all.value
export const definition = (name: string) => all.value.find((one) => one.collection === name)
export const childrenOf = (name: string) => all.value.filter((one) => one.parent?.collection === name)
export const fieldOf = (of: Definition, name: string) => of.fields.find((field) => field.name === name)

/** Languages in which definitions say something, besides their own. */
export const spokenByDefinitions = () => [...new Set(all.value.flatMap((one) => Object.keys(one.languages ?? {})))]

/** What a definition says in the language that is spoken, or in the nearest to it. */
function wordingOf(of: Definition): Wording | undefined {
  const spoken = language().toLowerCase()
  const tags = Object.keys(of.languages ?? {})
  const tag =
    tags.find((one) => one.toLowerCase() === spoken) ??
    tags.find((one) => one.toLowerCase().split('-')[0] === spoken.split('-')[0])
  return tag === undefined ? undefined : of.languages?.[tag]
}

function worded(of: Definition): Definition {
  const say = wordingOf(of)
  if (!say) return of
  const fields = of.fields.map((field): Field => {
    const own = say.fields?.[field.name]
    if (!own) return field
    const schema = { ...schemaOf(field), ...(own.description ? { description: own.description } : {}) }
    for (const [part, title] of Object.entries(own.parts ?? {})) {
      const at = schema.properties ?? schema.items?.properties
      if (at?.[part]) at[part] = { ...at[part], title }
    }
    return { ...field, title: own.title ?? field.title, schema }
  })
  return { ...of, title: say.title ?? of.title, description: say.description ?? of.description, fields }
}

/** What a choice of a field is called. */
export function choiceTitle(of: Definition | undefined, field: string, value: unknown): string {
  const own = of && wordingOf(of)?.fields?.[field]?.choices?.[String(value)]
  return own ?? String(value)
}

/** What is said of a record that wants attention. */
export const attentionTitle = (of: Definition | undefined, say: string) =>
  (of && wordingOf(of)?.attention?.[say]) ?? say

/** The field in which records of a collection have their place, if any. */
export const placeField = (of: Definition | undefined) =>
  of?.fields.find((field) => isPoint(schemaOf(field)) || isLine(schemaOf(field)))

/** The choice fields, by which lists are narrowed. */
export const choiceFields = (of: Definition) => of.fields.filter((field) => (schemaOf(field).enum?.length ?? 0) > 1)

/** Whether people set a field here; the rest is worked out, filled in or numbered. */
export const settable = (field: FieldLike) => !field.computed && !field.filled && !field.series && !field.marks

/** Place and period of a record say which it is, and stay. */
export const stays = (of: Definition | undefined, name: string) =>
  [of?.coverage?.place, of?.coverage?.period].includes(name)

/** Whether devices send records of a collection. */
export const editable = (of: Definition) => of.sync.direction !== 'down'

/** Whether records of a collection are looked up at central. */
export const lookedUp = (of: Definition) => of.sync.keep === 'on demand' || of.sync.keep === 'never'
