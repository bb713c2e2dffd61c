import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  ...tseslint.configs.strict,
  hooks.configs.flat.recommended,
  {
    // The data layer knows no React; drawing knows no HTTP.
    files: ["src/api/**"],
    rules: { "no-restricted-imports": ["error", { patterns: ["react", "react-dom", "@mantine/*"] }] },
  },
  {
    files: ["src/graph/**", "src/components/**"],
    rules: { "no-restricted-imports": ["error", { patterns: ["**/api/http", "**/queries/*"] }] },
  },
);
