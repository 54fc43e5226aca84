import js from '@eslint/js';
import svelte from 'eslint-plugin-svelte';
import globals from 'globals';
import ts from 'typescript-eslint';
import svelteConfig from './svelte.config.js';

export default ts.config(
  { ignores: ['dist/', 'src/lib/api.gen.d.ts', 'src/lib/editing/hints.gen.ts', 'scripts/'] },
  js.configs.recommended,
  ...ts.configs.strict,
  ...svelte.configs.recommended,
  { languageOptions: { globals: { ...globals.browser, ...globals.node } } },
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: { parserOptions: { parser: ts.parser, extraFileExtensions: ['.svelte'], svelteConfig } },
    // Our router makes addresses of its own; the rule knows another one only.
    rules: { 'svelte/no-navigation-without-resolve': 'off' },
  },
  {
    // One reason for each file; keys and freshness are owned by lib/queries.ts.
    files: ['src/**/*.svelte'],
    rules: {
      'max-lines': ['error', 200],
      'no-restricted-syntax': [
        'error',
        {
          selector: 'Identifier[name=/^(queryKey|invalidateQueries)$/]',
          message: 'Ask by lib/queries.ts, and tell it what was changed.',
        },
      ],
    },
  },
);
