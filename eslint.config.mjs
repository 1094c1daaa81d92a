import js from "@eslint/js";
import globals from "globals";

const loaded = { htmx: "readonly", Alpine: "readonly", bootstrap: "readonly", Idiomorph: "readonly" };

export default [
  { ignores: ["**/vendor/**"] },
  js.configs.recommended,
  {
    languageOptions: { globals: { ...globals.browser, ...loaded } },
    rules: { eqeqeq: "error", "no-var": "error", "prefer-const": "error" },
  },
  {
    files: ["**/tests/**/*.mjs"],
    languageOptions: { globals: globals.node },
  },
  {
    files: ["**/uploads.js"],
    languageOptions: { sourceType: "script", globals: { ...globals.worker, tus: "readonly" } },
  },
];
