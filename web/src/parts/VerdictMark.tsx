import type { Verdict } from "../api/client";
import { usePalette } from "./palette";

interface Props {
  /** The verdict up to the loader. */
  reaches: Verdict | "";
  /** The whole verdict: a start that is not proven to its end is drawn hollow. */
  verdict?: Verdict | "";
  size?: number;
}

/** A loader on the original of which nobody knows where it leads may still lead to the clone. */
function shown<T extends string>(reaches: T, verdict: string): T | "depends" {
  return reaches === "starts-original" && verdict === "depends" ? "depends" : reaches;
}

/** The verdict as a form: a pin at the line, a hanging pin, a turned key, a hollow pin. */
export function VerdictMark({ reaches: reached, verdict, size = 36 }: Props) {
  const palette = usePalette();
  const reaches = shown(reached, verdict ?? "");
  const line = <line x1="2" x2="34" y1="18" y2="18" stroke={palette.text.primary} strokeWidth="1.5" />;
  return (
    <svg width={size} height={size} viewBox="0 0 36 36" aria-hidden="true" style={{ flex: "none" }}>
      {line}
      {reaches === "stops" && (
        <>
          <line
            x1="18"
            x2="18"
            y1="4"
            y2="23"
            stroke={palette.meaning.rust}
            strokeWidth="2"
            strokeDasharray="2 3"
          />
          <rect x="12" y="22" width="12" height="12" rx="3" fill={palette.meaning.rust} />
        </>
      )}
      {reaches === "starts-original" && <TurnedKey colour={palette.meaning.plum} />}
      {reaches === "starts" &&
        (verdict === "starts" ? (
          <path d="M12 18h12v12l-6 5-6-5z" fill={palette.meaning.sea} />
        ) : (
          <path
            d="M12.5 18.5h11v11l-5.5 5-5.5-5z"
            fill="none"
            stroke={palette.meaning.sea}
            strokeWidth="1.8"
          />
        ))}
      {reaches === "depends" && (
        <rect
          x="12"
          y="10"
          width="12"
          height="16"
          rx="3"
          fill="none"
          stroke={palette.meaning.brass}
          strokeWidth="2"
        />
      )}
      {reaches === "" && <circle cx="18" cy="18" r="4" fill="none" stroke={palette.text.secondary} />}
    </svg>
  );
}

function TurnedKey({ colour }: { colour: string }) {
  return (
    <g fill="none" stroke={colour} strokeWidth="2.2" strokeLinecap="round">
      <circle cx="12" cy="24" r="5" fill={colour} fillOpacity="0.25" />
      <path d="M16 20L28 8M25 11l3.5 3.5M21.5 14.5l2.5 2.5" />
    </g>
  );
}

/** The verdict in a word or two, for lists. */
export function verdictWord(reaches: string, verdict: string, stage: string): string {
  switch (shown(reaches, verdict)) {
    case "starts":
      return verdict === "starts"
        ? "Starts"
        : verdict === "stops"
          ? `Stops at ${stage}`
          : "Reaches its loader";
    case "starts-original":
      return "Starts the original";
    case "stops":
      return `Stops at ${stage.replace("-", " ")}`;
    case "depends":
      return "Depends";
  }
  return "Not checked";
}
