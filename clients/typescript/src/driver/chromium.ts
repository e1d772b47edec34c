// The device in Chromium, driven over standard input and output: this program starts the browser with a page of its own,
// and passes the lines on. Each store has a profile of its own beside the path that it is said to be at.
import { spawn, type ChildProcess } from "node:child_process";
import { existsSync, readFileSync, readlinkSync, rmSync, writeFileSync } from "node:fs";
import { createServer, request, type IncomingMessage, type ServerResponse } from "node:http";
import type { AddressInfo } from "node:net";
import { join } from "node:path";
import { createInterface } from "node:readline";

const flags = [
  "--headless",
  "--no-sandbox",
  "--disable-gpu",
  "--disable-quic",
  "--no-first-run",
  "--disable-background-networking",
  "--disable-component-update",
  "--disable-sync",
  "--disable-features=WebUIOmniboxPopup,WebUIOmniboxAimPopup,WebUIOmniboxFullPopup", // pages of its own, which nobody sees
  "--js-flags=--liftoff-only", // stores are opened often and for short: to make their code quick first takes longer
  "--remote-debugging-pipe", // the browser ends when the pipe does: with this program, however that ends
];

let browser: ChildProcess | undefined;
let profile = "";
/** A browser for what needs no store leaves nothing behind. */
const withoutStore = `folder=$(mktemp -d); chromium "$0" "$@" --user-data-dir="$folder"; rm -rf "$folder"`;
/** Lines on their way to the page, and whoever waits for one. */
const lines: string[] = [];
let waiting: ((line: string) => void) | undefined;

const page = `<!doctype html><title>driven</title><script type="module">new Worker("/driven.js", { type: "module" })</script>`;
const types: { [ending: string]: string } = { js: "text/javascript", wasm: "application/wasm" };

async function bodyOf(from: IncomingMessage): Promise<Buffer> {
  const parts: Buffer[] = [];
  for await (const part of from) {
    parts.push(part as Buffer);
  }
  return Buffer.concat(parts);
}

/** Serves the page, its lines, the files that it asks for by path, and its way to central. */
async function serve(from: IncomingMessage, to: ServerResponse): Promise<void> {
  const url = new URL(from.url ?? "/", "http://localhost");
  const path = url.searchParams.get("path") ?? "";
  if (url.pathname === "/") {
    to.setHeader("Content-Type", "text/html").end(page);
  } else if (url.pathname === "/next") {
    const line = lines.shift() ?? (await new Promise<string>((resolve) => (waiting = resolve)));
    to.end(line);
  } else if (url.pathname === "/said") {
    process.stdout.write(await bodyOf(from));
    to.end();
  } else if (url.pathname === "/wrong") {
    process.stderr.write(await bodyOf(from));
    to.end();
  } else if (url.pathname === "/file" && from.method === "PUT") {
    const exists = url.searchParams.has("new") && existsSync(path);
    if (!exists) {
      writeFileSync(path, await bodyOf(from), { flag: url.searchParams.has("add") ? "a" : "w", mode: 0o600 });
    }
    to.writeHead(exists ? 409 : 204).end();
  } else if (url.pathname === "/file") {
    to.writeHead(existsSync(path) ? 200 : 404).end(existsSync(path) ? readFileSync(path) : "");
  } else if (url.pathname === "/central") {
    passOn(url.searchParams.get("to") ?? "", from, await bodyOf(from), to);
  } else {
    const file = join(import.meta.dirname, url.pathname.slice(1));
    to.writeHead(existsSync(file) ? 200 : 404, { "Content-Type": types[file.split(".").at(-1) ?? ""] ?? "text/plain" });
    to.end(existsSync(file) ? readFileSync(file) : "");
  }
}

/** Passes a request on. What does not come back is said in words: a browser tries again by itself where a connection ends. */
function passOn(target: string, from: IncomingMessage, body: Buffer, to: ServerResponse): void {
  const { host: _, connection: __, ...headers } = from.headers;
  const lost = () => to.headersSent || to.writeHead(502, { "Homing-Driven-Lost": "true" }).end();
  const on = request(target, { method: from.method ?? "GET", headers: { ...headers, "content-length": body.length } });
  on.on("error", lost);
  on.on("response", (back) => {
    bodyOf(back).then((text) => {
      const { "transfer-encoding": ___, connection: ____, ...rest } = back.headers;
      to.writeHead(back.statusCode ?? 502, { ...rest, "content-length": text.length }).end(text);
    }, lost);
  });
  on.end(body);
}

/** Ends a browser that still has the profile, as a crash would. */
async function free(folder: string): Promise<void> {
  let pid = 0;
  try {
    pid = Number(readlinkSync(join(folder, "SingletonLock")).split("-").at(-1));
  } catch {
    return; // nobody has it
  }
  for (const alive = () => process.kill(pid, 0); ;) {
    try {
      process.kill(pid, "SIGKILL");
      alive();
    } catch {
      break;
    }
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
  rmSync(join(folder, "SingletonLock"), { force: true });
}

async function start(folder: string, port: number): Promise<void> {
  browser?.kill("SIGKILL");
  profile = folder;
  if (folder) {
    await free(folder);
  }
  // Whatever the port, the page is of one origin, and finds what it stored.
  const origin = "driven.localhost";
  const rules = `--host-resolver-rules=MAP ${origin} 127.0.0.1:${port}`;
  const args = [...flags, rules, ...(folder ? [`--user-data-dir=${folder}`] : []), `http://${origin}/`];
  const stdio = ["ignore", "ignore", "ignore", "pipe", "pipe"] as const;
  browser = folder
    ? spawn("chromium", args, { stdio: [...stdio] })
    : spawn("sh", ["-c", withoutStore, ...args], { stdio: [...stdio] });
  browser.on("error", (error) => {
    process.stderr.write(`chromium cannot be started: ${error.message}\n`);
    process.exit(1);
  });
}

const server = createServer((from, to) => void serve(from, to).catch(() => to.destroy()));
server.listen(0, "127.0.0.1", async () => {
  const { port } = server.address() as AddressInfo;
  for await (const line of createInterface({ input: process.stdin })) {
    const ask = JSON.parse(line) as { do: string; with?: { path?: string } };
    const path = ask.with?.path;
    const own = (ask.do === "open" || ask.do === "restore") && path ? `${path}.profile` : profile;
    if (!browser || own !== profile) {
      await start(own, port);
    }
    if (waiting) {
      waiting(line);
      waiting = undefined;
    } else {
      lines.push(line);
    }
  }
  browser?.kill("SIGKILL");
  process.exit(0);
});
