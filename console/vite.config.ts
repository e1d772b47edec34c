import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  build: { emptyOutDir: true, chunkSizeWarningLimit: 1200 },
  // While developing: npm run dev beside a running central.
  server: { proxy: { '/v1': 'http://127.0.0.1:8400' } },
})
