// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Key, PlanEdit } from "../src/api";
import { useDraft } from "../src/plan/draft";
import { Fields } from "../src/plan/Fields";
import type { Values } from "../src/plan/keys";
import { KeyField } from "../src/plan/KeyField";
import { Lanes } from "../src/plan/Lanes";
import { Tried } from "../src/plan/Tried";

/** What the service answers, by path, and what it was asked: in its place before anybody asks. */
const service = vi.hoisted(() => {
  const is = {
    answers: {} as Record<string, unknown>,
    asked: [] as { path: string; body: unknown }[],
  };
  globalThis.fetch = async (request: RequestInfo | URL) => {
    const r = request as Request;
    const path = new URL(r.url).pathname;
    is.asked.push({ path, body: r.method === "GET" ? undefined : await r.json() });
    return new Response(JSON.stringify(is.answers[path] ?? []), {
      headers: { "Content-Type": "application/json" },
    });
  };
  return is;
});

beforeEach(() => {
  service.answers = { "/api/v1/plan": { renditions: [], rules: [], values: {} } };
  service.asked = [];
});

afterEach(cleanup);

function shown(children: ReactNode) {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return render(<QueryClientProvider client={client}>{children}</QueryClientProvider>);
}

const key = (is: Partial<Key> & { name: string }): Key => ({ type: "text", says: "", label: is.name, ...is });

const order = key({
  name: "order",
  label: "What goes first",
  default: "newest",
  words: [
    { word: "newest", says: "the newest" },
    { word: "oldest", says: "the oldest" },
    { word: "smallest", says: "the smallest" },
  ],
});

describe("the control of a key comes from what may stand behind it", () => {
  it("a text says when it is empty for any, and gives an example", () => {
    const change = vi.fn();
    const hours = key({ name: "hours", label: "Hours", empty: "any", examples: ["22:00-06:00"] });
    shown(<KeyField of={hours} value="06:00-07:00" change={change} />);
    const field = screen.getByLabelText<HTMLInputElement>("Hours (empty for any)");
    expect(field.value).toBe("06:00-07:00");
    expect(field.placeholder).toBe("such as 22:00-06:00");
    fireEvent.change(field, { target: { value: "" } });
    expect(change).toHaveBeenCalledWith("");
  });

  it("of a device's own, empty is the rule's", () => {
    const hours = key({ name: "hours", label: "Hours", empty: "any", any: true });
    shown(<KeyField of={hours} value="any" change={vi.fn()} own />);
    expect(screen.getByLabelText("Hours (empty for the rule's, any for none)")).toBeTruthy();
  });

  it("words are chosen from, with what is said of each; the default one counts without a word", () => {
    const change = vi.fn();
    shown(<KeyField of={order} value={undefined} change={change} />);
    const field = screen.getByLabelText<HTMLSelectElement>("What goes first");
    expect(field.value).toBe("newest");
    expect([...field.options].map((o) => o.text)).toEqual(["the newest", "the oldest", "the smallest"]);
    fireEvent.change(field, { target: { value: "oldest" } });
    expect(change).toHaveBeenCalledWith("oldest");
  });

  it("one word beside the default is a yes or no", () => {
    const change = vi.fn();
    const clash = key({
      name: "on-clash",
      label: "Skip it",
      default: "name",
      words: [{ word: "name" }, { word: "skip" }],
    });
    shown(<KeyField of={clash} value={undefined} change={change} />);
    fireEvent.click(screen.getByLabelText("Skip it"));
    expect(change).toHaveBeenCalledWith("skip");
  });

  it("a number is sent as one, and what is none as it was typed", () => {
    const change = vi.fn();
    shown(<KeyField of={key({ name: "height", type: "number" })} value={720} change={change} />);
    const field = screen.getByLabelText<HTMLInputElement>("height");
    expect(field.value).toBe("720");
    fireEvent.change(field, { target: { value: "1080" } });
    expect(change).toHaveBeenLastCalledWith(1080);
    fireEvent.change(field, { target: { value: "tall" } });
    expect(change).toHaveBeenLastCalledWith("tall");
  });

  it("a list of few is checked, a list of words is written", () => {
    const change = vi.fn();
    const take = key({
      name: "take",
      list: true,
      words: [{ word: "photo" }, { word: "raw" }, { word: "everything" }],
    });
    shown(<KeyField of={take} value={["photo"]} change={change} />);
    expect(screen.queryByLabelText("everythings")).toBeNull();
    fireEvent.click(screen.getByLabelText("raw files"));
    expect(change).toHaveBeenCalledWith(["photo", "raw"]);
    const named = key({ name: "named", list: true, examples: ["Slip"] });
    shown(<KeyField of={named} value={["Slip"]} change={change} />);
    fireEvent.change(screen.getByLabelText("named"), { target: { value: "Slip, Boat house," } });
    expect(change).toHaveBeenLastCalledWith(["Slip", "Boat house"]);
  });
});

/** A form of one key over a part that may change meanwhile. */
function Form({ values, tell }: { values: Values; tell: (edits: PlanEdit[], meanwhile: boolean) => void }) {
  const draft = useDraft(values, ["rules", "all"]);
  tell(draft.edits, draft.changedMeanwhile);
  const hours = key({ name: "hours", wants: undefined });
  return (
    <>
      <Fields
        keys={[order, key({ name: "power", wants: "battery" })]}
        draft={draft}
        parts={{ battery: false, modem: true }}
      />
      <Fields keys={[hours]} under={["gates"]} draft={draft} />
    </>
  );
}

describe("a draft", () => {
  it("sends only what the keeper touched, each key by its path", () => {
    const tell = vi.fn();
    shown(<Form values={{ order: "oldest", gates: { hours: "06:00-07:00" } }} tell={tell} />);
    expect(tell).toHaveBeenLastCalledWith([], false);
    fireEvent.change(screen.getByLabelText("hours"), { target: { value: "22:00-06:00" } });
    expect(tell).toHaveBeenLastCalledWith(
      [{ path: ["rules", "all", "gates", "hours"], value: "22:00-06:00" }],
      false,
    );
    fireEvent.change(screen.getByLabelText("hours"), { target: { value: "06:00-07:00" } });
    expect(tell).toHaveBeenLastCalledWith([], false);
  });

  it("shows what another changed, and keeps what the keeper touched", () => {
    const tell = vi.fn();
    const client = new QueryClient();
    const form = (values: Values) => (
      <QueryClientProvider client={client}>
        <Form values={values} tell={tell} />
      </QueryClientProvider>
    );
    const { rerender } = render(form({ order: "oldest" }));
    fireEvent.change(screen.getByLabelText("hours"), { target: { value: "22:00-06:00" } });
    rerender(form({ order: "smallest" }));
    expect(screen.getByLabelText<HTMLSelectElement>("What goes first").value).toBe("smallest");
    expect(tell).toHaveBeenLastCalledWith(
      [{ path: ["rules", "all", "gates", "hours"], value: "22:00-06:00" }],
      true,
    );
  });

  it("does not ask for what no device has a part for, unless the plan says it", () => {
    shown(<Form values={{}} tell={vi.fn()} />);
    expect(screen.queryByLabelText("power")).toBeNull();
    cleanup();
    shown(<Form values={{ power: "charging" }} tell={vi.fn()} />);
    expect(screen.getByLabelText("power")).toBeTruthy();
  });
});

describe("what edits would change", () => {
  const edits = (value: string): PlanEdit[] => [{ path: ["rules", "all", "order"], value }];
  it("is told before it counts, and forgotten when the edits are others", async () => {
    service.answers["/api/v1/plan/edits"] = { version: 0, says: ["the oldest first"], notes: [] };
    const client = new QueryClient();
    const form = (value: string) => (
      <QueryClientProvider client={client}>
        <Tried edits={edits(value)} version={3} done={vi.fn()} />
      </QueryClientProvider>
    );
    const { rerender } = render(form("oldest"));
    expect(screen.getByText<HTMLButtonElement>("Put it in force").disabled).toBe(true);
    fireEvent.click(screen.getByText("See what it would change"));
    await screen.findByText("the oldest first");
    expect(service.asked.at(-1)?.body).toEqual({ base: 3, edits: edits("oldest"), try: true });
    rerender(form("smallest"));
    expect(screen.queryByText("the oldest first")).toBeNull();
    expect(screen.getByText<HTMLButtonElement>("Put it in force").disabled).toBe(true);
    rerender(form("oldest"));
    fireEvent.click(screen.getByText("Put it in force"));
    await waitFor(() =>
      expect(service.asked.filter((a) => a.path === "/api/v1/plan/edits").at(-1)?.body).toEqual({
        base: 3,
        edits: edits("oldest"),
      }),
    );
  });
});

describe("lanes", () => {
  const keys: Key[] = [
    key({
      name: "over",
      words: [
        { word: "wifi", says: "Wi-Fi" },
        { word: "wired", says: "cable" },
        { word: "cellular", says: "cellular" },
      ],
    }),
    key({ name: "metered", type: "yes", label: "also where it is metered" }),
    key({ name: "roaming", type: "yes", label: "also while roaming" }),
    key({ name: "roaming-allowance", label: "while roaming at most" }),
    key({ name: "allowance", label: "carries at most" }),
  ];
  const lanes = async (list: Values[], change = vi.fn(), modem = true) => {
    service.answers["/api/v1/plan/keys"] = [key({ name: "rules", keys: [key({ name: "lanes", keys })] })];
    shown(<Lanes lanes={list} take={["photo", "video"]} parts={{ modem, battery: true }} change={change} />);
    await screen.findByLabelText("Way 1 carries at most");
    return change;
  };
  it("what only one kind of network has goes with it", async () => {
    const change = await lanes([
      { over: "wifi", metered: true, allowance: "1 GB per day", gates: { rest: "30 min" } },
    ]);
    fireEvent.change(screen.getByLabelText("Way 1"), { target: { value: "cellular" } });
    expect(change).toHaveBeenCalledWith([
      { over: "cellular", allowance: "1 GB per day", gates: { rest: "30 min" } },
    ]);
  });
  it("an allowance while roaming is asked for where it roams", async () => {
    await lanes([{ over: "cellular" }]);
    expect(screen.queryByLabelText("Way 1 while roaming at most")).toBeNull();
    cleanup();
    await lanes([{ over: "cellular", roaming: true }]);
    expect(screen.getByLabelText("Way 1 while roaming at most")).toBeTruthy();
  });
  it("fewer kinds than the rule takes are named, all are not", async () => {
    const change = await lanes([{ over: "wifi" }]);
    fireEvent.click(screen.getByLabelText("videos (way 1)"));
    expect(change).toHaveBeenLastCalledWith([{ over: "wifi", take: ["photo"] }]);
    cleanup();
    const back = await lanes([{ over: "wifi", take: ["photo"] }]);
    fireEvent.click(screen.getByLabelText("videos (way 1)"));
    expect(back).toHaveBeenLastCalledWith([{ over: "wifi", take: undefined }]);
  });
  it("cellular is not offered where no device has a modem", async () => {
    await lanes([{ over: "wifi" }], vi.fn(), false);
    const over = screen.getByLabelText<HTMLSelectElement>("Way 1");
    expect([...over.options].map((o) => o.value)).toEqual(["wifi", "wired"]);
  });
});
