import { expect, test } from "vitest";
import { pasted, proposed } from "./pasted";

test("a full name suggests a sign-in name in plain letters", () => {
  expect(["Ada Brook", "José María Núñez", "Cher", "  "].map(proposed)).toEqual(["ada.brook", "jose.nunez", "cher", ""]);
});

test("a pasted column is a name a line, with the sign-in name beside it where there is one", () => {
  expect(pasted("Ada Brook\nMilo Hart\tmilo\n\nRuth; rc\n", "person")).toEqual([
    { full_name: "Ada Brook", name: "ada.brook" },
    { full_name: "Milo Hart", name: "milo" },
    { full_name: "Ruth", name: "rc" },
  ]);
  expect(pasted("Front, Desk\r\nFloor", "group")).toEqual([
    { full_name: "", name: "Front, Desk" },
    { full_name: "", name: "Floor" },
  ]);
});
