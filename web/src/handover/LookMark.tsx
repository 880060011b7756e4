import type { LookAt } from "../api/client";
import { usePalette } from "../parts/palette";

const words = { open: "not looked at", right: "right", wrong: "wrong", aside: "left so" } as const;

/** A small pin: at the line for what is right, hanging for what is wrong, hollow for what is open. */
export function LookMark({ state }: { state: LookAt["state"] }) {
  const { meaning, text } = usePalette();
  return (
    <svg
      width="18"
      height="22"
      viewBox="0 0 18 22"
      role="img"
      aria-label={words[state]}
      style={{ flex: "none" }}
    >
      <line x1="1" x2="17" y1="9" y2="9" stroke={text.primary} strokeWidth="1.2" />
      {state === "right" && <path d="M5 9.5h8v6l-4 4.5-4-4.5z" fill={meaning.sea} />}
      {state === "wrong" && (
        <>
          <line x1="9" x2="9" y1="1" y2="13" stroke={meaning.rust} strokeWidth="1.6" strokeDasharray="2 2" />
          <path d="M5 12h8v5l-4 4-4-4z" fill={meaning.rust} />
        </>
      )}
      {state === "open" && (
        <path d="M5 3.5h8v9l-4 4.5-4-4.5z" fill="none" stroke={meaning.brass} strokeWidth="1.4" />
      )}
      {state === "aside" && (
        <path d="M5 9.5h8v6l-4 4.5-4-4.5z" fill="none" stroke={text.secondary} strokeWidth="1.3" />
      )}
    </svg>
  );
}
