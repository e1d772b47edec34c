import vue from '@vitejs/plugin-vue'
import { createHash } from 'node:crypto'
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { brotliCompressSync } from 'node:zlib'
import { defineConfig, type Plugin } from 'vite'

const library = '../clients/typescript/dist/'
const deviceFiles = ['worker.js', 'sqlite3.wasm']
const hashOf = (...texts: (string | Uint8Array)[]) => {
  const hash = createHash('sha256')
  for (const text of texts) hash.update(text)
  return hash.digest('hex').slice(0, 10)
}
const folder = `assets/device-${hashOf(...deviceFiles.map((name) => readFileSync(library + name)))}/`

const at = (path: string) => new URL(path, import.meta.url).pathname

/** Takes the device's worker as the library has built it: what is tested there is what runs here. */
function device(): Plugin {
  return {
    name: 'device',
    generateBundle() {
      for (const name of deviceFiles)
        this.emitFile({ type: 'asset', fileName: folder + name, source: readFileSync(library + name) })
    },
  }
}

/** Tells the service worker which files the app consists of, once they are all there. */
function shell(): Plugin {
  const catalogues = new Set<string>()
  return {
    name: 'shell',
    generateBundle(_, bundle) {
      for (const one of Object.values(bundle))
        if (one.type === 'chunk' && one.facadeModuleId?.includes('/src/words/')) catalogues.add(one.fileName)
    },
    closeBundle() {
      const files = readdirSync('dist', { recursive: true, withFileTypes: true })
        .filter((one) => one.isFile() && !['sw.js', '.keep'].includes(one.name) && !one.name.endsWith('.png'))
        .map((one) => `${one.parentPath}/${one.name}`.replace(/^dist\//, ''))
        .toSorted()
      const version = hashOf(
        ...files.map((name) => name + hashOf(readFileSync(`dist/${name}`))),
        readFileSync('public/sw.js'),
      )
      const text = readFileSync('public/sw.js', 'utf8')
      const all = files.filter((name) => !catalogues.has(name))
      writeFileSync(
        'dist/sw.js',
        text
          .replace('__VERSION__', version)
          .replace('__FILES__', JSON.stringify(all))
          .replace('__CATALOGUES__', JSON.stringify([...catalogues])),
      )
      // The service hands these out to whoever reads Brotli (RFC 7932): a phone fetches a seventh less than with gzip.
      for (const name of files) writeFileSync(`dist/${name}.br`, brotliCompressSync(readFileSync(`dist/${name}`)))
    },
  }
}

/** The library's own guess at where its worker lies is not needed here, and would be copied. */
function ownWorker(): Plugin {
  return {
    name: 'own-worker',
    enforce: 'pre',
    transform: (code, id) =>
      id.endsWith('typescript/src/browser/index.ts')
        ? code.replaceAll('new URL("worker.js", import.meta.url)', '""')
        : undefined,
  }
}

export default defineConfig({
  base: './', // central may stand behind a path of a proxy's
  plugins: [vue(), ownWorker(), device(), shell()],
  // What both faces share lies beside them, and takes its packages from whoever builds it.
  resolve: {
    dedupe: ['vue'],
    alias: {
      'homing-device/browser': at('../clients/typescript/src/browser/index.ts'),
      // The boxes that both faces share are drawn with a phone's own: PrimeVue's would be a sixth of all that is not SQLite.
      'primevue/inputtext': at('src/parts/InputText.vue'),
      'primevue/textarea': at('src/parts/TextArea.vue'),
      'primevue/button': at('src/parts/ActButton.vue'),
    },
  },
  define: { deviceWorker: JSON.stringify(`./${folder}worker.js`) },
  build: { emptyOutDir: true, chunkSizeWarningLimit: 700 },
})
