import js from '@eslint/js';
import a11y from 'eslint-plugin-jsx-a11y';
import hooks from 'eslint-plugin-react-hooks';
import ts from 'typescript-eslint';

export default ts.config(
  { ignores: ['src/api/schema.d.ts'] },
  js.configs.recommended,
  ...ts.configs.strictTypeChecked,
  { languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } } },
  hooks.configs.flat['recommended-latest'],
  a11y.flatConfigs.recommended,
  {
    rules: {
      '@typescript-eslint/no-confusing-void-expression': ['error', { ignoreArrowShorthand: true }],
      '@typescript-eslint/restrict-template-expressions': ['error', { allowNumber: true }],
      // The focus goes to the first field of a dialog that somebody has opened, as WAI-ARIA's dialog pattern wants.
      'no-restricted-syntax': ['error', { selector: 'JSXText[value=/[A-Za-z]{2}/]', message: 'Texts belong into the words.ts of their part of the console.' }],
      'jsx-a11y/no-autofocus': ['error', { ignoreNonDOM: true }],
    },
  },
);
