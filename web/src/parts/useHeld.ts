import { useState } from "react";

/** The latest data of a query about something, kept while a later try of the same fails. */
export function useHeld<T>(of: unknown, data: T | undefined): T | undefined {
  const [held, setHeld] = useState({ of, data });
  const latest = data ?? (held.of === of ? held.data : undefined);
  if (held.of !== of || held.data !== latest) setHeld({ of, data: latest });
  return latest;
}
