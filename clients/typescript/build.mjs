// Builds what is run: the program that is driven in Node.
import { build } from "esbuild";

await build({
  entryPoints: { driver: "src/driver/main.ts" },
  outdir: "dist",
  bundle: true,
  platform: "node",
  format: "esm",
  target: "node20",
  logLevel: "warning",
  external: ["node-sqlite3-wasm"],
});
