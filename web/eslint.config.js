import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config({ ignores: ["dist", "src/api/schema.d.ts"] }, ...ts.configs.strict, {
  files: ["src/**/*.{ts,tsx}"],
  extends: [...ts.configs.recommendedTypeCheckedOnly],
  languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
  plugins: { "react-hooks": hooks },
  rules: {
    ...hooks.configs.recommended.rules,
    // Handlers answer to nobody; what they begin tells its own failure.
    "@typescript-eslint/no-misused-promises": ["error", { checksVoidReturn: { attributes: false } }],
  },
});
