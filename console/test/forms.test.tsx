// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, fireEvent, render, screen, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Key, PlanEdit } from "../src/api";
import { Control } from "../src/plan/Control";
import { useDraft } from "../src/plan/draft";
import { Fields } from "../src/plan/Fields";
import type { Values } from "../src/plan/keys";
import { KeyField } from "../src/plan/KeyField";
import { hoursText, spans, stretches } from "../src/plan/hours";
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
    await screen.findByText("the oldest first");
    expect(service.asked.at(-1)?.body).toEqual({ base: 3, edits: edits("oldest"), try: true });
    rerender(form("smallest"));
    expect(screen.queryByText("the oldest first")).toBeNull();
    expect(screen.getByText<HTMLButtonElement>("Put it in force").disabled).toBe(true);
    rerender(form("oldest"));
    await screen.findByText("the oldest first");
    fireEvent.click(screen.getByText("Put it in force"));
    await waitFor(() =>
      expect(service.asked.filter((a) => a.path === "/api/v1/plan/edits").at(-1)?.body).toEqual({
        base: 3,
        edits: edits("oldest"),
      }),
    );
  });
});

/** One control over a rule, whose edits are told. */
function Of(props: { path: string[]; rule: Values; modem?: boolean; tell: (edits: PlanEdit[]) => void }) {
  const draft = useDraft(props.rule, ["rules", "all"]);
  props.tell(draft.edits.map((e) => ({ ...e, path: e.path.slice(2) })));
  const parts = { modem: props.modem ?? true, battery: true };
  return <Control path={props.path} draft={draft} parts={parts} rule="all" pick={vi.fn()} />;
}

const gateKeys = [
  key({ name: "hours", label: "Hours" }),
  key({ name: "power", label: "Power", wants: "battery" }),
  key({ name: "unused-for", label: "Only when nobody used it for" }),
];

const laneKeys: Key[] = [
  key({
    name: "over",
    label: undefined,
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

/** Shows the control of a path, and gives what tells its edits. */
async function control(path: string[], rule: Values, modem = true) {
  service.answers["/api/v1/plan/keys"] = [
    key({
      name: "rules",
      keys: [
        key({ name: "take", list: true, words: [{ word: "photo" }, { word: "video" }], label: "Takes" }),
        key({ name: "larger-than", label: "Only files larger than" }),
        key({ name: "lanes", keys: laneKeys }),
        key({ name: "gates", keys: gateKeys }),
      ],
    }),
  ];
  const tell = vi.fn();
  shown(<Of path={path} rule={rule} modem={modem} tell={tell} />);
  await waitFor(() => expect(service.asked.some((a) => a.path === "/api/v1/plan/keys")).toBe(true));
  return tell;
}

const put = (field: HTMLElement, value: string) => fireEvent.change(field, { target: { value } });

describe("the control of a rule's words", () => {
  it("what only one kind of network has goes with it, before the network changes", async () => {
    const tell = await control(["lanes", "#0", "over"], {
      take: ["photo"],
      lanes: [{ over: "wifi", metered: true, allowance: "1 GB per day" }],
    });
    put(await screen.findByLabelText("Goes over"), "cellular");
    expect(tell).toHaveBeenLastCalledWith([
      { path: ["lanes", "#0", "metered"], value: undefined },
      { path: ["lanes", "#0", "over"], value: "cellular" },
    ]);
  });
  it("what a way does not say is offered: roaming on cellular, its bound where it roams", async () => {
    await control(["lanes", "#0", "over"], { take: ["photo"], lanes: [{ over: "cellular" }] });
    await screen.findByText("also while roaming");
    expect(screen.queryByText("while roaming at most")).toBeNull();
    cleanup();
    await control(["lanes", "#0", "over"], { take: ["photo"], lanes: [{ over: "cellular", roaming: true }] });
    await screen.findByText("while roaming at most");
    expect(screen.queryByText("also where it is metered")).toBeNull();
  });
  it("cellular is not offered where no device has a modem", async () => {
    await control(["lanes", "#0", "over"], { take: ["photo"], lanes: [{ over: "wifi" }] }, false);
    const over = await screen.findByLabelText<HTMLSelectElement>("Goes over");
    await waitFor(() => expect([...over.options].map((o) => o.value)).toEqual(["wifi", "wired"]));
  });
  it("a way is added, and one of several is taken out", async () => {
    const rule = { take: ["photo"], lanes: [{ over: "wifi" }, { over: "cellular" }] };
    const added = await control(["lanes", "+"], rule);
    const over = await screen.findByLabelText("Also over");
    await screen.findByText("cable");
    put(over, "wired");
    expect(added).toHaveBeenLastCalledWith([{ path: ["lanes", "+"], value: { over: "wired" } }]);
    cleanup();
    const out = await control(["lanes", "#1", "over"], rule);
    fireEvent.click(await screen.findByText("Take out this way"));
    expect(out).toHaveBeenLastCalledWith([{ path: ["lanes", "#1"], value: undefined }]);
  });
  it("fewer kinds than the rule takes are named, all are not", async () => {
    const tell = await control(["lanes", "#0", "take"], {
      take: ["photo", "video"],
      lanes: [{ over: "wifi" }],
    });
    fireEvent.click(screen.getByLabelText("videos"));
    expect(tell).toHaveBeenLastCalledWith([{ path: ["lanes", "#0", "take"], value: ["photo"] }]);
    fireEvent.click(screen.getByLabelText("videos"));
    expect(tell).toHaveBeenLastCalledWith([]);
  });
  it("a lane carries nothing that the rule no longer takes, and never did in between", async () => {
    const tell = await control(["take"], {
      take: ["photo", "video"],
      lanes: [{ over: "wifi", take: ["photo", "video"] }],
    });
    fireEvent.click(await screen.findByLabelText("videos"));
    expect(tell).toHaveBeenLastCalledWith([
      { path: ["lanes", "#0", "take"], value: ["photo"] },
      { path: ["take"], value: ["photo"] },
    ]);
  });
  it("an allowance is a number, a unit and a period", async () => {
    const rule = { take: ["photo"], lanes: [{ over: "cellular", allowance: "45 MB per day" }] };
    const tell = await control(["lanes", "#0", "allowance"], rule);
    const path = ["lanes", "#0", "allowance"];
    const n = await screen.findByLabelText<HTMLInputElement>("Carries at most");
    expect(n.value).toBe("45");
    put(n, "2");
    put(screen.getByLabelText("Unit"), "GB");
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "2 GB per day" }]);
    put(screen.getByLabelText("in a"), "month");
    put(await screen.findByLabelText("The month begins on day"), "15");
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "2 GB per month from day 15" }]);
    put(screen.getByLabelText("Carries at most, in steps"), "0");
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "5 MB per month from day 15" }]);
    put(n, "");
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "" }]);
  });
  it("power is chosen, and its charge set by a slider", async () => {
    const tell = await control(["gates", "power"], { gates: { power: "charging or at least 40%" } });
    const way = await screen.findByLabelText<HTMLSelectElement>("Power");
    expect(way.value).toBe("charging or at least");
    put(screen.getByLabelText("Charge of the battery"), "65");
    const path = ["gates", "power"];
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "charging or at least 65%" }]);
    put(way, "charging for");
    put(screen.getByLabelText("For at least"), "60 min");
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "charging for 60 min" }]);
    put(way, "");
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "" }]);
  });
  it("a size is a number and a unit, a length is chosen", async () => {
    const size = await control(["larger-than"], {});
    put(await screen.findByLabelText("Only files larger than"), "2");
    put(screen.getByLabelText("Unit"), "GB");
    expect(size).toHaveBeenLastCalledWith([{ path: ["larger-than"], value: "2 GB" }]);
    cleanup();
    const unused = await control(["gates", "unused-for"], { gates: { "unused-for": "7 min" } });
    const field = await screen.findByLabelText<HTMLSelectElement>("Only when nobody used it for");
    expect(field.value).toBe("7 min");
    put(field, "10 min");
    expect(unused).toHaveBeenLastCalledWith([{ path: ["gates", "unused-for"], value: "10 min" }]);
  });
  it("hours are drawn and typed, span by span", async () => {
    const path = ["gates", "hours"];
    const rule = { gates: { hours: "mon-fri 22:00-06:00, sat-sun 00:00-24:00" } };
    const tell = await control(path, rule);
    expect((await screen.findByLabelText<HTMLSelectElement>("On")).value).toBe("mon-fri");
    put(screen.getByLabelText("From"), "21:30");
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "mon-fri 21:30-06:00, sat-sun 00:00-24:00" }]);
    fireEvent.click(screen.getByLabelText("Take out these hours (2)"));
    put(screen.getByLabelText("Until"), "00:00");
    put(screen.getByLabelText("On"), "");
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "21:30-24:00" }]);
    fireEvent.click(screen.getByLabelText("Take out these hours"));
    expect(tell).toHaveBeenLastCalledWith([{ path, value: "" }]);
  });
});

describe("hours", () => {
  it("are read and written as a plan has them", () => {
    for (const text of ["06:00-23:00", "mon-fri 22:00-06:00, sat-sun 00:00-24:00", "wed 12:00-13:30"]) {
      expect(hoursText(spans(text))).toBe(text);
    }
    expect(spans("mon – fri  6:00 – 7:30")).toEqual([{ days: "mon-fri", from: "06:00", until: "07:30" }]);
    expect(spans("any")).toEqual([]);
  });
  it("over midnight cover two stretches of a day", () => {
    expect(stretches({ days: "", from: "22:00", until: "06:00" })).toEqual([
      [1320, 1440],
      [0, 360],
    ]);
    expect(stretches({ days: "", from: "00:00", until: "24:00" })).toEqual([[0, 1440]]);
  });
});
