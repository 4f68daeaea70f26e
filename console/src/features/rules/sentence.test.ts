import { expect, it } from "vitest";
import type { RuleDocument } from "../../api/types";
import { FORMS, asToml } from "./model";
import { AROUND, SENTENCES, shownIn, withForm, withTyped, type Part } from "./sentence";

type Filled = Exclude<Part, { word: string }>;
const leases = {
  name: "leases",
  notify: ["on call"],
  threshold: { events: "service=slots", over: "5m", per: ["zone"], above: 20 },
} as unknown as RuleDocument;
const part = (parts: Part[], field: string) => parts.find((one) => "field" in one && one.field === field) as Filled;
const of = (field: string) => part(SENTENCES.threshold, field);

it("every form is a sentence", () => {
  for (const form of FORMS) expect(SENTENCES[form].some((one) => "field" in one)).toBe(true);
});

it("fields are shown as they are typed, and typed as they are shown", () => {
  expect(["events", "over", "per", "side", "number", "measure"].map((f) => shownIn(leases, of(f)))).toEqual([
    "service=slots",
    "5m",
    "zone",
    "above",
    "20",
    "",
  ]);
  const typed = withTyped(withTyped(leases, of("per"), "zone, service"), of("number"), "3.5");
  expect(typed.threshold).toEqual({ events: "service=slots", over: "5m", per: ["zone", "service"], above: 3.5 });
  expect(withTyped(leases, of("number"), "many")).toEqual(leases);
  const below = withTyped(leases, of("side"), "below");
  expect(asToml(below)).toContain("below = 20");
  expect(asToml(below)).not.toContain("above");
  const notify = part(AROUND, "notify");
  expect(withTyped(leases, notify, "on call, office").notify).toEqual(["on call", "office"]);
  // A comma that was just typed stays, so that another can follow.
  expect(shownIn(withTyped(leases, notify, "on call, "), notify)).toBe("on call");
});

it("a share is shown in percent", () => {
  const share = { name: "x", share: { of: "failed", over: "5m", above: 0.07 } } as unknown as RuleDocument;
  const above = part(SENTENCES.share, "above");
  expect(shownIn(share, above)).toBe("7");
  expect(withTyped(share, above, "12").share?.above).toBe(0.12);
});

it("another form keeps what both have", () => {
  const silence = withForm(leases, "silence");
  expect(silence.silence).toEqual({ events: "service=slots", per: ["zone"], times: 3 });
  expect(silence.threshold).toBeUndefined();
  expect(withForm(leases, "deviation").deviation).toEqual({
    events: "service=slots",
    over: "5m",
    per: ["zone"],
    above: 20,
    like: "week",
  });
});
