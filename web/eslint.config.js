import typescript from 'typescript-eslint'
import vue from 'eslint-plugin-vue'
import accessible from 'eslint-plugin-vuejs-accessibility'
import prettier from 'eslint-config-prettier'

const looks = 'includes|startsWith|endsWith|indexOf|match|search|localeCompare'
const told = 'words|likely|problem|reason|detail|fix|wrong|said|message'
const message = 'Decide by a code (codeOf), not by what is written for people.'
const comparingWords = [
  // words(error).startsWith('…'), said.includes('…'), x.problem.match(…), problem.value.includes('…')
  `CallExpression[callee.property.name=/^(${looks})$/][callee.object.callee.name='words'][arguments.0.type=/Literal$/]`,
  `CallExpression[callee.property.name=/^(${looks})$/][callee.object.name=/^(${told})$/][arguments.0.type=/Literal$/]`,
  `CallExpression[callee.property.name=/^(${looks})$/][callee.object.property.name=/^(${told})$/][arguments.0.type=/Literal$/]`,
  `CallExpression[callee.property.name=/^(${looks})$/][callee.object.object.name=/^(${told})$/][arguments.0.type=/Literal$/]`,
  // /…/.test(words(error))
  `CallExpression[callee.property.name=/^(test|exec)$/] > CallExpression[callee.name='words']`,
  // said === '…'
  `BinaryExpression[operator=/^[!=]==?$/][left.callee.name='words'][right.value!='']`,
  `BinaryExpression[operator=/^[!=]==?$/][left.name=/^(${told})$/][right.type='Literal'][right.value!='']`,
].map((selector) => ({ selector, message }))

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
      // What is written for people decides nothing: there are codes beside it.
      'no-restricted-syntax': ['error', ...comparingWords],
    },
  },
)
