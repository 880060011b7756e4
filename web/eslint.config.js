import reactHooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "src/api/generated"] },
  ...tseslint.configs.recommended,
  reactHooks.configs.flat.recommended,
  {
    rules: {
      "no-restricted-syntax": [
        "error",
        {
          selector: "IfStatement[test.property.name='isError'] ReturnStatement",
          message:
            "A failed poll must not replace what is shown and typed: isLoadingError is the error without data.",
        },
      ],
    },
  },
);
