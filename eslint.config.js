import js from "@eslint/js";
import globals from "globals";

export default [
  { ignores: ["node_modules", "var", "build", ".venv"] },
  js.configs.recommended,
  {
    files: ["studio/**/*.js"],
    languageOptions: { globals: { ...globals.browser, ...globals.audioWorklet, LOOK: "readonly" } },
    rules: {
      "no-unused-vars": ["error", { argsIgnorePattern: "^_" }],
      "no-unused-expressions": "off",
      eqeqeq: "error",
      "prefer-const": "error",
      "no-var": "error",
    },
  },
  { files: ["tests/scripts/*.js", "*.config.js"], languageOptions: { globals: globals.node } },
];
