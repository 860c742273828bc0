import js from "@eslint/js";
import prettier from "eslint-config-prettier";
import vue from "eslint-plugin-vue";
import typescript from "typescript-eslint";

export default typescript.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  js.configs.recommended,
  ...typescript.configs.strict,
  ...vue.configs["flat/recommended"],
  {
    files: ["**/*.vue"],
    languageOptions: { parserOptions: { parser: typescript.parser } },
  },
  {
    rules: {
      "no-undef": "off",
      "vue/multi-word-component-names": "off",
      "@typescript-eslint/no-unused-vars": ["error", { varsIgnorePattern: "^_$" }],
    },
  },
  // In a test an element that is not there is a failure anyway.
  { files: ["tests/**"], rules: { "@typescript-eslint/no-non-null-assertion": "off" } },
  prettier,
);
