import { ref } from 'vue'
import { api, ask, type Field, type Fields, type Overview, type RecordRow } from './api/client'

const collections = ref<Overview[]>()
const labels = ref<Record<string, string>>({})
const asked = new Set<string>()

/** All collections with their definitions and numbers. */
export function useCollections() {
  async function load() {
    collections.value = (await ask(api.GET('/v1/collections'))) ?? []
  }
  const find = (name: string) => collections.value?.find((c) => c.collection === name)
  return { collections, load, find }
}

/** What a record is called, by its collection's definition. */
export function labelOf(collection: Overview | undefined, fields: Fields): string {
  const text = (collection?.label ?? '').replace(/\{(\w+)\}/g, (_, name: string) => String(fields[name] ?? ''))
  return text.trim() || '(no label)'
}

/** The label of a record that a field refers to; its short id until it is known. */
export function referenced(collection: string, id: string): string {
  const key = `${collection}/${id}`
  if (!asked.has(key)) {
    asked.add(key)
    ask(api.GET('/v1/records/{collection}/{id}', { params: { path: { collection, id } } }))
      .then((record) => (labels.value[key] = labelOf(useCollections().find(collection), fieldsOf(record))))
      .catch(() => (labels.value[key] = `unknown record …${id.slice(-6)}`))
  }
  return labels.value[key] ?? `…${id.slice(-6)}`
}

/** Forgets labels, so that they are asked for again when next shown. */
export function forgetLabels(collection: string) {
  for (const key of asked) if (key.startsWith(`${collection}/`)) asked.delete(key)
}

export function fieldsOf(record: RecordRow): Fields {
  return (record.fields ?? {}) as Fields
}

/** The collections whose records belong to those of a collection. */
export function childrenOf(name: string): Overview[] {
  return (collections.value ?? []).filter((c) => c.parent?.collection === name)
}

/** Whether people set a field at central; the rest is worked out, filled in, numbered, or stays on devices. */
export const settable = (field: Field) => !field.computed && !field.filled && !field.series && !field.local && !field.marks

/** Where a value comes from that nobody sets. */
export const given = (field: Field) =>
  field.computed ? 'worked out' : field.filled || field.series ? 'given by central' : field.local ? 'stays on devices' : field.marks ? 'by marking it' : ''
