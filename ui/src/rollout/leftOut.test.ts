import { expect, test } from "vitest";
import type { RolloutStep } from "../api/client";
import { leftOut } from "./leftOut";

const step = (id: string, needs: string[] = [], more: Partial<RolloutStep> = {}) =>
  ({ id, words: `Do ${id}`, needs, trouble: "", ...more }) as RolloutStep;

test("what needs something that is left is left, at any distance; what nobody needs stays", () => {
  const steps = [step("group"), step("user", ["group"]), step("folder", ["user"]), step("share", ["folder"]), step("other")];
  expect([...leftOut(steps, new Set(["user"]))]).toEqual([
    ["user", "left for later"],
    ["folder", "needs: Do user"],
    ["share", "needs: Do folder"],
  ]);
  expect(leftOut(steps, new Set()).size).toBe(0);
});

test("what cannot be done says why, and what would not be made anew is not ended", () => {
  const steps = [step("end", [], { anew: "make" }), step("make", ["gone"]), step("gone", [], { trouble: "no such disk" })];
  expect(leftOut(steps, new Set()).get("gone")).toBe("no such disk");
  expect(leftOut(steps, new Set()).get("end")).toBe("needs: Do make");
});
