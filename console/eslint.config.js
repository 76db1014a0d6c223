import { defineConfigWithVueTs, vueTsConfigs } from '@vue/eslint-config-typescript'
import pluginVue from 'eslint-plugin-vue'

export default defineConfigWithVueTs(
  { ignores: ['src/service/openapi.d.ts', 'node_modules'] },
  pluginVue.configs['flat/recommended'],
  vueTsConfigs.recommended,
  {
    rules: {
      // How lines are broken is left to whoever writes them.
      'vue/attributes-order': 'off',
      'vue/first-attribute-linebreak': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/html-indent': 'off',
      'vue/html-self-closing': 'off',
      'vue/max-attributes-per-line': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      // Texts go through the catalogue, so that they can be read in one go and translated.
      'vue/no-bare-strings-in-template': ['error', {
        allowlist: [
          ...'(),.:;–—·“”…/%→↑↓←+×▾✓✗?-"@&☰›\'',
          // Keys, days in numbers, and commands of the program.
          ...'KTRPAUX', '7, 1', '14, 3', 'openlatch account access', 'openlatch journal verify --file … --head …',
        ],
      }],
      // What a property is when it is left out is said by its type.
      'vue/require-default-prop': 'off',
    },
  },
)
