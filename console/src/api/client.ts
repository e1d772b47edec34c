import createClient from 'openapi-fetch'
import { readJSON, writeJSON } from '../../../generate/exact'
import type { components, paths } from './schema.gen'

type Schemas = components['schemas']
export type Overview = Schemas['Overview']
export type Field = Schemas['Field']
export type RecordRow = Schemas['Record']
export type HistoryEntry = Schemas['HistoryEntry']
export type Device = Schemas['Device']
export type Accepted = Schemas['Accepted']
export type Health = Schemas['HealthOut']
export type Definition = Schemas['Definition']
export type ReadTable = Schemas['ReadTable']
export type Meeting = Schemas['Meeting']
export type Rehearsal = Schemas['Rehearsal']
export type Reach = Schemas['Reach']
export type ReadFile = Schemas['ReadOut']
export type DeviceDetail = Schemas['DeviceOut']
export type Travelled = Schemas['Travelled']
export type Exchange = Schemas['Exchange']
export type ExchangeDetail = Schemas['ExchangeDetail']
export type SettledOne = Schemas['SettledOne']
export type Worker = Schemas['Worker']
export type SignedIn = Schemas['SignedIn']
export type Code = Schemas['Code']
export type Done = Schemas['Done']
export type FeedStatus = Schemas['Status']
export type FeedAside = Schemas['Aside']
export type Said = Schemas['Said']
export type Setting = Schemas['Setting']
export type Grid = Schemas['Grid']
export type Cell = Schemas['Cell']
export type FollowedLine = Schemas['FollowedLine']
export type FollowedCount = Schemas['FollowedCount']
export type Conflict = Schemas['Conflict']
export type Territory = Schemas['Territory']
export type Session = Schemas['Session']
export type Hello = Schemas['Hello']
export type Reason = Schemas['Reason']
export type Fields = Record<string, unknown>
export type Delta = Record<string, { from?: unknown; to?: unknown }>

/** Numbers keep all of their digits, both ways. */
async function exactly(request: Request): Promise<Response> {
  const answer = await fetch(request)
  if (answer.status !== 200 && answer.status !== 201) return answer
  const text = await answer.text()
  const read = new Response(text, { status: answer.status, headers: answer.headers })
  read.headers.set('Content-Length', String(text.length)) // the client reads such answers by json()
  read.json = () => Promise.resolve(readJSON(text))
  return read
}

export const api = createClient<paths>({ baseUrl: '', fetch: exactly, bodySerializer: (body: unknown) => writeJSON(body as object) })

/** What central refused, or that it could not be reached (status 0). */
export class Problem extends Error {
  constructor(
    readonly detail: string,
    readonly status: number,
    readonly reasons: Reason[] = [],
  ) {
    super(detail)
  }
}

let onSignedOut = () => {}
/** Tells the session when central no longer knows it. */
export function whenSignedOut(listener: () => void) {
  onSignedOut = listener
}

/** Gives the data of an answer, or throws a Problem. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch {
    throw new Problem('Central cannot be reached. The page tries again as soon as it can.', 0)
  }
  if (answer.response.ok) return answer.data as T
  if (answer.response.status === 401) onSignedOut()
  const error = answer.error as { detail?: string; reasons?: Reason[] } | undefined
  throw new Problem(error?.detail ?? `Central answered ${answer.response.status}.`, answer.response.status, error?.reasons ?? [])
}
