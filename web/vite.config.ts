import vue from '@vitejs/plugin-vue'
import vuetify from 'vite-plugin-vuetify'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  // Nothing is inlined: the content security policy keeps to files of the service.
  build: { chunkSizeWarningLimit: 900, assetsInlineLimit: 0 },
  test: { environment: 'happy-dom', testTimeout: 30_000, server: { deps: { inline: ['vuetify'] } } },
})
