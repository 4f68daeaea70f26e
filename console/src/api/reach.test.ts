import { afterEach, expect, test, vi } from "vitest";
import { elsewhere, isReached, noteReach, onReach } from "./reach";

afterEach(() => noteReach(true));

test("who listens hears of a change, and of a change alone", () => {
  const heard = vi.fn();
  const stop = onReach(heard);
  noteReach(true);
  expect(heard).not.toHaveBeenCalled();
  noteReach(false);
  noteReach(false);
  expect([isReached(), heard.mock.calls.length]).toEqual([false, 1]);
  stop();
  noteReach(true);
  expect([isReached(), heard.mock.calls.length]).toEqual([true, 1]);
});

test("the same place on other nodes", () => {
  expect(elsewhere(["https://bank-2:8437/", "http://10.0.0.3"], "/search?q=a%3Db")).toEqual([
    { node: "bank-2:8437", href: "https://bank-2:8437/search?q=a%3Db" },
    { node: "10.0.0.3", href: "http://10.0.0.3/search?q=a%3Db" },
  ]);
  expect(elsewhere([], "/now")).toEqual([]);
});
