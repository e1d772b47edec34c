// What a definition says of a field, as far as forms and lists go by it.

/** JSON Schema 2020-12, as far as it is looked at here. */
export interface Schema {
  unit?: string
  default?: unknown
  type?: string | string[]
  enum?: unknown[]
  $ref?: string
  format?: string
  minimum?: number
  maximum?: number
  maxLength?: number
  description?: string
  title?: string
  items?: Schema
  properties?: Record<string, Schema>
  required?: string[]
}

/** A field of a definition. */
export interface FieldLike {
  name: string
  title: string
  schema?: unknown
  required?: boolean
  computed?: string
  filled?: string
  series?: string
  local?: boolean
  reference?: string
  period?: 'day' | 'week' | 'month' | 'quarter' | 'year'
  /** The value is the name of whoever marked the record complete. */
  marks?: boolean
}

export function schemaOf(field: FieldLike): Schema {
  return (field.schema ?? {}) as Schema
}

export const isPoint = (s: Schema) => s.$ref === 'urn:homing:point'
export const isLine = (s: Schema) => s.$ref === 'urn:homing:line'
export const isNumber = (s: Schema) => s.type === 'number' || s.type === 'integer'
/** Whether a text is long enough to need lines. */
export const isLong = (s: Schema) => s.type === 'string' && (s.maxLength ?? 0) > 200

/** Whether a field, or each member of its list, has parts that are filled in one by one. */
export function hasParts(field: FieldLike): boolean {
  const schema = schemaOf(field)
  const of = schema.type === 'array' ? schema.items : schema
  return of?.type === 'object' && Object.keys(of.properties ?? {}).length > 0
}
