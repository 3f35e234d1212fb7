import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

/** Elements beside others, as far as they are no list. */
const SIBLINGS = [
  ":matches(JSXElement, JSXFragment) > JSXElement",
  "JSXExpressionContainer > :matches(LogicalExpression, ConditionalExpression) > JSXElement",
];
const KEY = "JSXAttribute[name.name='key']";
const NAMELESS = ":not(TemplateLiteral[quasis.0.value.raw!=''], Literal)";

export default tseslint.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  js.configs.recommended,
  ...tseslint.configs.strict,
  {
    files: ["src/**/*.{ts,tsx}"],
    plugins: { "react-hooks": hooks },
    rules: {
      ...hooks.configs["recommended-latest"].rules,
      "@typescript-eslint/no-explicit-any": "error",
      "@typescript-eslint/no-non-null-assertion": "off",
      "@typescript-eslint/no-dynamic-delete": "off",
      "react-hooks/set-state-in-effect": "off",
      "react-hooks/refs": "off",
      "react-hooks/incompatible-library": "off",
      "react-hooks/preserve-manual-memoization": "off",
      "react-hooks/use-memo": "off",
      // What a store's function answers would be taken for a clean-up and called when the page goes.
      "no-restricted-syntax": ["error", {
        selector: "CallExpression[callee.name=/^use(Layout)?Effect$/] > ArrowFunctionExpression[body.type!='BlockStatement']",
        message: "give an effect a body in braces: what it returns is called as its clean-up",
      }, {
        // Beside others that are no list, two that are keyed by a name alone may come to have the same one, and are
        // then drawn again and again. Of a list, keys are apart from its siblings'.
        selector: SIBLINGS.map((place) => `${place} > JSXOpeningElement > ${KEY} > JSXExpressionContainer > ${NAMELESS}`).join(", "),
        message: "begin the key with words of its own, such as `steadiness of ${name}`: a sibling may have the same name",
      }],
      "@typescript-eslint/no-unused-vars": ["error", { varsIgnorePattern: "^_$", argsIgnorePattern: "^_$", destructuredArrayIgnorePattern: "^_$", ignoreRestSiblings: true }],
    },
  },
  // In tests what is missing fails the test.
  { files: ["tests/**/*.ts"], rules: { "@typescript-eslint/no-non-null-assertion": "off" } },
);
