import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  // What both faces share lies beside them, and takes its packages from whoever builds it.
  resolve: { dedupe: ['vue', 'primevue'] },
  build: { emptyOutDir: true, chunkSizeWarningLimit: 1200 },
  // While developing: npm run dev beside a running central.
  server: { proxy: { '/v1': 'http://127.0.0.1:8400' } },
})
