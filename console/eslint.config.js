import js from "@eslint/js";
import globals from "globals";
import svelte from "eslint-plugin-svelte";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist/", "node_modules/", "src/api/schema.d.ts"] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  { languageOptions: { globals: globals.browser } },
  { files: ["**/*.svelte", "**/*.svelte.ts"], languageOptions: { parserOptions: { parser: ts.parser } } },
  {
    rules: {
      "svelte/no-useless-mustaches": "off", // { " " } keeps a space
      "no-undef": "off", // TypeScript knows better
      "max-lines": ["error", { max: 200 }],
      "max-len": ["error", { code: 120, ignoreUrls: true }],
      "svelte/no-navigation-without-resolve": "off" // the router is not SvelteKit's
    }
  }
);
