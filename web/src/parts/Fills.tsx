import { usePalette } from "./palette";

/** A partition's role in starting gives its fill, whatever its file system; one that is not told is hollow. */
export const fillOf = (role: string) =>
  role === "unknown" ? "none" : `url(#fill-${role === "other" ? "data" : role})`;

/** The fills of partitions, for a drawing that uses them. */
export function Fills() {
  const { meaning, background, text } = usePalette();
  return (
    <defs>
      <pattern
        id="fill-boot"
        width="6"
        height="6"
        patternUnits="userSpaceOnUse"
        patternTransform="rotate(45)"
      >
        <rect width="6" height="6" fill={background.paper} />
        <rect width="2.4" height="6" fill={meaning.brass} />
      </pattern>
      <pattern id="fill-system" width="8" height="8" patternUnits="userSpaceOnUse">
        <rect width="8" height="8" fill={meaning.solid} />
      </pattern>
      <pattern id="fill-reserved" width="6" height="6" patternUnits="userSpaceOnUse">
        <rect width="6" height="6" fill={background.paper} />
        <circle cx="3" cy="3" r="1.1" fill={text.secondary} />
      </pattern>
      <pattern
        id="fill-recovery"
        width="7"
        height="7"
        patternUnits="userSpaceOnUse"
        patternTransform="rotate(-45)"
      >
        <rect width="7" height="7" fill={background.paper} />
        <line x1="0" y1="0" x2="0" y2="7" stroke={text.secondary} strokeWidth="1.2" />
      </pattern>
      <pattern id="fill-data" width="8" height="8" patternUnits="userSpaceOnUse">
        <rect width="8" height="8" fill={meaning.tint} />
      </pattern>
    </defs>
  );
}
