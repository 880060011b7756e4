const key = "latchkey-who";

/** Who sits at this browser, for the history of a case. */
export const whoami = () => localStorage.getItem(key) ?? "";

export const setWho = (name: string) => localStorage.setItem(key, name);
