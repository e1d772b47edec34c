// Requests to central.
import { parse, type Value } from "../core/json.ts";
import { isObject } from "../core/state.ts";
import { DeviceError, Problem } from "./errors.ts";

/** One call bounds itself, so that a link that has gone dead does not hold an exchange for ever. */
const patience = 120_000; // milliseconds

const compressFrom = 1024; // bytes; smaller bodies do not gain

export interface Call {
  method: string;
  path: string;
  headers?: { [name: string]: string };
  /** The body, as JSON. */
  body?: string;
  signal?: AbortSignal | undefined;
}

/** How to reach central. */
export class Link {
  constructor(
    private readonly base: string,
    private readonly token: string,
    private readonly fetch: typeof globalThis.fetch,
  ) {}

  /** Calls central and gives what it answers; nothing where there is no body. Throws a [Problem], or that nothing came. */
  async call({ method, path, headers = {}, body, signal }: Call): Promise<Value | undefined> {
    const all: { [name: string]: string } = {
      "Homing-Protocol": "1",
      ...headers,
    };
    if (this.token !== "") {
      all.Authorization = `Bearer ${this.token}`;
    }
    let sent: BodyInit | undefined;
    if (body !== undefined) {
      all["Content-Type"] = "application/json";
      sent = body;
      if (body.length > compressFrom) {
        all["Content-Encoding"] = "gzip";
        sent = await new Response(new Blob([body]).stream().pipeThrough(new CompressionStream("gzip"))).arrayBuffer();
      }
    }
    const signals = [AbortSignal.timeout(patience), ...(signal ? [signal] : [])];
    let response: Response;
    let text: string;
    try {
      const init: RequestInit = {
        method,
        headers: all,
        redirect: "error",
        signal: AbortSignal.any(signals),
      };
      const { fetch } = this; // a browser's own must not be called as a method of anything
      response = await fetch(this.base + path, sent === undefined ? init : { ...init, body: sent });
      text = await response.text();
    } catch (error) {
      if (signal?.aborted) {
        throw error;
      }
      throw new DeviceError("unreachable", `central cannot be reached at ${this.base}`, { cause: error });
    }
    if (!response.ok) {
      throw problemOf(response, text);
    }
    if (text === "") {
      return undefined;
    }
    try {
      return parse(text);
    } catch (error) {
      throw new DeviceError("unreachable", `what answers at ${this.base} is not central`, { cause: error });
    }
  }
}

function problemOf(response: Response, text: string): Problem {
  let read: Value = null;
  try {
    read = parse(text);
  } catch {
    // Something on the way has answered in central's place.
  }
  const said = isObject(read) ? read : {};
  const detail = typeof said.detail === "string" ? said.detail : `central answered ${response.status}`;
  const after = Number(response.headers.get("Retry-After") ?? NaN);
  return new Problem(response.status, String(said.type ?? ""), detail, Number.isFinite(after) ? after : undefined);
}
