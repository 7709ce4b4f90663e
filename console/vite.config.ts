import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

export default defineConfig({
  base: '/console/',
  plugins: [vue(), vuetify({ autoImport: true })],
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 1500 },
  // While the console is worked on, a service on its usual port answers.
  server: { proxy: { '/graphql': 'http://127.0.0.1:7420', '/api': 'http://127.0.0.1:7420', '/ready': 'http://127.0.0.1:7420' } },
})
