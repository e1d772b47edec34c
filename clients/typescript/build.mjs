// Builds what is run: the library for browsers with its worker, and the programs that are driven, in Node and in Chromium.
import { copyFileSync } from "node:fs";
import { build } from "esbuild";
import { rolldown } from "rolldown";

const shared = { outdir: "dist", bundle: true, format: "esm", logLevel: "warning" };

await build({
  ...shared,
  entryPoints: { driver: "src/driver/main.ts", chromium: "src/driver/chromium.ts" },
  platform: "node",
  target: "node20",
  external: ["node-sqlite3-wasm"],
});

await build({
  ...shared,
  entryPoints: {
    browser: "src/browser/index.ts",
    driven: "src/driver/driven.ts",
  },
  platform: "browser",
  target: "es2022",
  minify: true,
});

// The worker is most of what a phone fetches: Rolldown leaves more of the packages out that nobody calls.
const worker = await rolldown({ input: "src/browser/worker.ts", platform: "browser", logLevel: "warn" });
const shape = {
  format: "esm",
  minify: true,
  codeSplitting: false,
  comments: { legal: true, annotation: false, jsdoc: false },
};
await worker.write({ ...shape, file: "dist/worker.js" });
await worker.close();

copyFileSync("node_modules/@sqlite.org/sqlite-wasm/sqlite-wasm/jswasm/sqlite3.wasm", "dist/sqlite3.wasm");

// The example, as an app of one's own would be built.
const example = "../../examples/trailnotes";
await build({
  ...shared,
  outdir: "dist/trailnotes",
  entryPoints: { app: `${example}/app.ts` },
  platform: "browser",
  target: "es2022",
  minify: true,
  alias: { "homing-device/browser": "./src/browser/index.ts" },
});
copyFileSync(`${example}/index.html`, "dist/trailnotes/index.html");
copyFileSync("dist/worker.js", "dist/trailnotes/worker.js");
copyFileSync("dist/sqlite3.wasm", "dist/trailnotes/sqlite3.wasm");
