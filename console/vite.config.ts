import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { brotliCompressSync, gzipSync } from 'node:zlib'

import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import type { Plugin } from 'vite'
import { defineConfig } from 'vitest/config'

import { languageOf, texts } from './texts'

/** Compressed copies beside each script and style, which the service sends to whoever takes them. */
const compressed: Plugin = {
  name: 'compressed',
  apply: 'build',
  enforce: 'post',
  // From the files as they were written: others change them to the last.
  writeBundle(options, bundle) {
    for (const name of Object.keys(bundle).filter((one) => /\.(js|css)$/.test(one))) {
      const path = join(options.dir ?? '', name)
      writeFileSync(`${path}.gz`, gzipSync(readFileSync(path), { level: 9 }))
      writeFileSync(`${path}.br`, brotliCompressSync(readFileSync(path)))
    }
  },
}

export default defineConfig(({ mode }) => {
  const language = languageOf(mode)
  return {
    plugins: [vue(), tailwindcss(), ...texts(language), compressed],
    base: language === 'en' ? '/' : `/${language}/`,
    resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
    build: {
      // English first, which empties the folder; each other language below it.
      outDir: `../src/openlatch/api/built${language === 'en' ? '' : `/${language}`}`,
      emptyOutDir: true,
      // Fonts stay files of their own, so that the content security policy needs no data: source.
      assetsInlineLimit: 0,
      chunkSizeWarningLimit: 1200,
    },
    test: { include: ['src/**/*.test.ts'] },
  }
})
