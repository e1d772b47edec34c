// Exchanges that nobody asks for: on a schedule, when central says that something is new, when signal is back.
import { parse } from "../core/json.ts";
import { DeviceError, Problem } from "./errors.ts";
import { Seeker } from "./lookup.ts";
import { members, type Summary } from "./receiver.ts";
import { said, spanOf } from "./steer.ts";

/** How a store exchanges by itself. */
export interface RepeatOptions {
  /** From one exchange to the next, in milliseconds. The first comes after a random part of it, so that a fleet does not come at once. */
  every: number;
  /** Listens to central meanwhile, and pulls when it says that something is new. Nothing depends on it. */
  follow?: boolean;
  /** Hears of each run: what it came to, or why it failed. */
  tell?: (summary: Summary | undefined, error: Error | undefined) => void;
  /** Ends it. */
  signal?: AbortSignal;
}

const firstRetry = 5_000; // milliseconds
const longestWait = 15 * 60_000;
/** How long to wait after a word from central for more of the kind, so that many changes make one pull. */
const settle = 300;

export class Repeater extends Seeker {
  private wake: (() => void) | undefined;

  /**
   * Exchanges again and again until it is told to end. After a failure that may pass it tries again sooner, after a delay that
   * doubles; one that waiting does not mend, such as a revoked device, ends it with that error.
   */
  async repeat(options: RepeatOptions): Promise<void> {
    const { signal, tell = () => {} } = options;
    const every = () => spanOf(said(this.kept, "exchange_every")) ?? options.every; // what central says goes before
    const ended = new AbortController();
    signal?.addEventListener("abort", () => ended.abort());
    const over = () => signal?.aborted === true || ended.signal.aborted;
    const following = options.follow ? this.followOn(ended.signal, tell) : Promise.resolve();
    try {
      let failures = 0;
      for (let wait = Math.random() * every(); !over();) {
        await this.pause(wait, ended.signal);
        if (over()) {
          return;
        }
        try {
          const summary = await this.exchange({ signal: ended.signal });
          tell(summary, undefined);
          wait = every();
          failures = 0;
        } catch (error) {
          if (over()) {
            return;
          }
          tell(undefined, error as Error);
          if (!passes(error)) {
            throw error;
          }
          wait = retryDelay(failures++, every());
        }
      }
    } finally {
      ended.abort();
      await following;
    }
  }

  /** Lets the next exchange of [repeat] come at once, as when signal is back. */
  soon(): void {
    this.wake?.();
  }

  private pause(wait: number, signal: AbortSignal): Promise<void> {
    return new Promise((resolve) => {
      const timer = setTimeout(resolve, wait);
      const now = () => {
        clearTimeout(timer);
        resolve();
      };
      this.wake = now;
      signal.addEventListener("abort", now, { once: true });
    });
  }

  /** Listens to central until it is to end, and begins again where the link breaks. */
  private async followOn(
    signal: AbortSignal,
    tell: (summary: Summary | undefined, error?: Error) => void,
  ): Promise<void> {
    for (let failures = 0; !signal.aborted; failures++) {
      try {
        if (said(this.kept, "listen") !== false) {
          await this.listenTo(signal, tell, () => (failures = 0));
        }
      } catch {
        // Listening is an optimisation: what is wrong, the next exchange will say.
      }
      if (!signal.aborted) {
        await new Promise<void>((resolve) => {
          setTimeout(resolve, retryDelay(failures, longestWait));
          signal.addEventListener("abort", () => resolve(), { once: true });
        });
      }
    }
  }

  private async listenTo(
    signal: AbortSignal,
    tell: (summary: Summary | undefined, error?: Error) => void,
    heard: () => void,
  ): Promise<void> {
    const { fetch = globalThis.fetch } = this.options;
    const headers = {
      Authorization: `Bearer ${this.fact("token")}`,
      Accept: "text/event-stream",
      "Homing-Protocol": "1",
    };
    const response = await fetch(`${this.fact("central")}/v1/events`, { headers, signal });
    if (!response.ok || !response.body) {
      return;
    }
    const heads = new Map<string, number>();
    let due: ReturnType<typeof setTimeout> | undefined;
    const look = async () => {
      due = undefined;
      const behind = this.collections().some(({ name, cursor }) => {
        const head = heads.get(name);
        return head !== undefined && this.collection(name).loads && (head === 0 || head > cursor);
      });
      heads.clear();
      if (behind) {
        await this.pull({ signal }).then(
          (summary) => (summary.received + summary.withdrawn > 0 ? tell(summary) : undefined),
          () => this.soon(),
        );
      }
    };
    try {
      for await (const { name, data } of eventsOf(response.body)) {
        heard();
        if (name === "heads") {
          for (const [collection, head] of Object.entries(members(parse(data)))) {
            heads.set(collection, Number(head));
          }
          due ??= setTimeout(() => void look(), settle);
        }
      }
    } finally {
      clearTimeout(due);
    }
  }
}

/** Whether an exchange that failed may well succeed later without anybody's help. */
function passes(error: unknown): boolean {
  if (error instanceof Problem) {
    return error.status >= 500 || error.status === 429;
  }
  return error instanceof DeviceError && (error.code === "unreachable" || error.code === "busy");
}

/** How long to wait after so many failures before: doubled each time, with a part of chance between a half and the whole of it. */
function retryDelay(failures: number, span: number): number {
  const longest = Math.min(span, longestWait);
  return Math.min(firstRetry * 2 ** Math.min(failures, 20), longest) * (0.5 + Math.random() / 2);
}

/** Server-sent events (HTML Living Standard, section 9.2) as they come. */
async function* eventsOf(body: ReadableStream<Uint8Array>): AsyncIterable<{ name: string; data: string }> {
  const reader = body.pipeThrough(new TextDecoderStream() as ReadableWritablePair<string, Uint8Array>).getReader();
  let text = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) {
      return;
    }
    text += value;
    const blocks = text.split(/\r?\n\r?\n/);
    text = blocks.pop() ?? "";
    for (const block of blocks) {
      const lines = block.split(/\r?\n/);
      const of = (field: string) =>
        lines.filter((line) => line.startsWith(`${field}:`)).map((line) => line.slice(field.length + 1).trim());
      yield { name: of("event")[0] ?? "", data: of("data").join("\n") };
    }
  }
}
