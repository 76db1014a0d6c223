/** What "npx vue-gettext-extract" reads, and where it puts the texts to translate. */
export default {
  input: {
    path: './src',
    include: ['**/*.vue', '**/*.ts'],
    exclude: ['**/*.test.ts', '**/*.d.ts'],
    parserOptions: {
      mapping: { simple: ['gettext'], plural: ['ngettext'], ctx: ['pgettext'], ctxPlural: ['npgettext'] },
    },
  },
  output: { path: './languages', potPath: './messages.pot', locales: ['de'], flat: true, linguas: false, fuzzyMatching: false, addLocation: false },
}
