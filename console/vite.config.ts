import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  // Nothing is inlined: a font as data: is what the service's own Content-Security-Policy refuses.
  build: { assetsInlineLimit: 0, target: 'es2022', chunkSizeWarningLimit: 900, emptyOutDir: true },
  server: {
    port: 5470,
    proxy: Object.fromEntries(
      ['/api', '/in', '/healthz', '/openapi.yaml'].map((p) => [p, { target: 'http://127.0.0.1:8470' }]),
    ),
  },
})
