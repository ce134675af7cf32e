// What make check looks for beside types and form: slips of Vue, and of pages that not everybody could use.
import a11y from 'eslint-plugin-vuejs-accessibility'
import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'src/**/*.gen.ts', 'src/**/*.gen.d.ts'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  ...a11y.configs['flat/recommended'],
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser } },
  },
  {
    rules: {
      // Form is prettier's.
      'vue/html-self-closing': 'off',
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/html-indent': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
      'vue/attributes-order': 'off',
      'vue/html-quotes': 'off',
      // A form that somebody opened begins at its first field.
      'vuejs-accessibility/no-autofocus': 'off',
      // What is not given is undefined; a Boolean that is not given is false.
      'vue/require-default-prop': 'off',
    },
  },
)
