import typescript from 'typescript-eslint'
import vue from 'eslint-plugin-vue'
import accessible from 'eslint-plugin-vuejs-accessibility'
import prettier from 'eslint-config-prettier'

export default typescript.config(
  { ignores: ['dist', 'src/schema.d.ts'] },
  ...typescript.configs.recommended,
  ...vue.configs['flat/recommended'],
  ...accessible.configs['flat/recommended'],
  prettier,
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: typescript.parser } },
  },
  {
    rules: {
      // The compiler looks for unused names already, and Vuetify's fields have labels of their own.
      'vuejs-accessibility/label-has-for': 'off',
      // Only the one field that a page or dialog is for has it.
      'vuejs-accessibility/no-autofocus': 'off',
      'vue/multi-word-component-names': 'off',
      'vue/valid-v-slot': ['error', { allowModifiers: true }],
      'vue/require-default-prop': 'off',
    },
  },
)
