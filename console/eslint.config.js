import query from "@tanstack/eslint-plugin-query";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import { readdirSync } from "node:fs";
import tseslint from "typescript-eslint";

/** Imports that a part must not make, each with the reason. */
const closed = (files, patterns) => ({
  files,
  rules: { "no-restricted-imports": ["error", { patterns }] },
});

const features = readdirSync(new URL("src/features", import.meta.url));

export default tseslint.config(
  { ignores: ["dist", "node_modules", "src/api/generated", "*.config.*"] },
  tseslint.configs.strictTypeChecked,
  hooks.configs.flat.recommended,
  a11y.flatConfigs.strict,
  query.configs["flat/recommended-strict"],
  {
    languageOptions: { parserOptions: { projectService: true } },
    linterOptions: { reportUnusedDisableDirectives: "error" },
    rules: {
      "@typescript-eslint/restrict-template-expressions": ["error", { allowNumber: true }],
      "@typescript-eslint/no-confusing-void-expression": [
        "error",
        { ignoreArrowShorthand: true, ignoreVoidOperator: true },
      ],
      "jsx-a11y/label-has-associated-control": [
        "error",
        { controlComponents: ["Input", "Select", "TextArea"], depth: 3 },
      ],
      // Without it the keyboard cannot scroll a region.
      "jsx-a11y/no-noninteractive-tabindex": ["error", { roles: ["region"], tags: [] }],
      // The compiler of React is not used.
      "react-hooks/incompatible-library": "off",
      "@typescript-eslint/only-throw-error": "off", // The router's redirects are thrown.
    },
  },
  closed(["src/ui/**"], [{ regex: "/(api|app|features|parts)/", message: "ui knows no API, no page and no route." }]),
  closed(["src/api/**"], [{ regex: "/(ui|app|features|parts)/", message: "api knows nothing that is drawn." }]),
  closed(["src/parts/**"], [{ regex: "/(app|features)/", message: "What pages share knows no page." }]),
  ...features.map((feature) =>
    closed(
      [`src/features/${feature}/**`],
      [
        { regex: "/app/", message: "A page does not know the frame around it." },
        { regex: "^\\.\\./[a-z]", message: "A page knows no other page; what two share lives in parts." },
      ],
    ),
  ),
);
