// A device that is driven line by line over standard input and output, as docs/conformance.md says.
import { createInterface } from "node:readline";
import { parse, write, type Value } from "../core/json.ts";
import { isObject } from "../core/state.ts";
import { workOut } from "./vectors.ts";

/** Gives what came of one ask, as the members of the line that says it. */
function answer(ask: { [key: string]: Value }): string {
  const what = String(ask.do);
  const given = isObject(ask.with) ? ask.with : {};
  if (what === "work-out") {
    const out = workOut(String(given.of), given.case ?? null);
    if (out !== undefined) {
      return `"done":${out}`;
    }
  }
  return failed("unknown", `this program does not do ${what}`);
}

function failed(name: string, message: string): string {
  return `"failed":{"name":${write(name)},"message":${write(message)}}`;
}

for await (const line of createInterface({ input: process.stdin })) {
  let number: Value = 0;
  let said: string;
  try {
    const ask = parse(line);
    if (!isObject(ask)) {
      throw new TypeError("this line is no ask");
    }
    number = ask.ask ?? 0;
    said = answer(ask);
  } catch (error) {
    said = failed(
      "other",
      error instanceof Error ? (error.stack ?? error.message) : String(error),
    );
  }
  process.stdout.write(`{"ask":${write(number)},${said}}\n`);
}
