import { fileURLToPath } from 'node:url'

import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  base: '/',
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: {
    outDir: '../src/openlatch/api/built',
    emptyOutDir: true,
    // Fonts stay files of their own, so that the content security policy needs no data: source.
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 1200,
  },
  test: { include: ['src/**/*.test.ts'] },
})
