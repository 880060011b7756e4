import { describe, expect, it } from "vitest";
import { verdictWord } from "./VerdictMark";

describe("the word for a verdict", () => {
  it.each([
    ["starts", "starts", "", "Starts"],
    ["starts", "depends", "", "Reaches its loader"],
    ["starts", "stops", "system", "Stops at system"],
    ["starts-original", "starts-original", "", "Starts the original"],
    ["starts-original", "depends", "", "Depends"],
    ["stops", "stops", "boot-partition", "Stops at boot partition"],
    ["depends", "depends", "", "Depends"],
    ["", "", "", "Not checked"],
  ])("%s up to the loader, %s in the whole", (reaches, verdict, stage, word) => {
    expect(verdictWord(reaches, verdict, stage)).toBe(word);
  });
});
