import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

// Built into the Python package, which serves it; `npm run dev` passes calls on to a running service.
export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  build: {
    outDir: '../src/dravo/web/console/built',
    emptyOutDir: true,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 600,
  },
  server: { proxy: { '/api': process.env.DRAVO_URL ?? 'http://127.0.0.1:8420' } },
})
