import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import a11y from "eslint-plugin-jsx-a11y";
import globals from "globals";
import ts from "typescript-eslint";

/** What of Ant Design a label may hold. */
const CONTROLS = [
  "Input",
  "Input.Password",
  "Input.TextArea",
  "Input.Search",
  "InputNumber",
  "Select",
  "AutoComplete",
  "DatePicker",
  "Segmented",
  "Checkbox",
  "Radio.Group",
  "Upload",
];

export default ts.config(
  { ignores: ["src/api/schema.d.ts", "node_modules", "vite.config.ts"] },
  js.configs.recommended,
  ...ts.configs.strict,
  a11y.flatConfigs.strict,
  {
    languageOptions: { globals: globals.browser },
    plugins: { "react-hooks": hooks },
    rules: {
      "react-hooks/rules-of-hooks": "error",
      "react-hooks/exhaustive-deps": "error",
      "@typescript-eslint/no-non-null-assertion": "off",
      "jsx-a11y/label-has-associated-control": ["error", { controlComponents: CONTROLS, assert: "nesting", depth: 4 }],
      // What scrolls can be scrolled by keyboard (axe: scrollable-region-focusable).
      "jsx-a11y/no-noninteractive-tabindex": "off",
      // Only in dialogs, where focus goes to the first field.
      "jsx-a11y/no-autofocus": "off",
    },
  },
);
