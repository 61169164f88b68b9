import { Dialog, DialogBackdrop, DialogPanel, DialogTitle, Field, Label, Select } from "@headlessui/react";
import { X } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import type { Item, PlanRendition } from "../api";
import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { fieldLook, TextField } from "../parts/Field";
import { word } from "../plan/keys";
import { usePlan } from "../plan/queries";
import { Both } from "./Compared";
import { useCompare, useForecast, type Form } from "./forms";

const points = {
  "the middle": [0.5, 0.5],
  "above, at the left": [0.2, 0.2],
  "above, at the right": [0.8, 0.2],
  "below, at the left": [0.2, 0.8],
  "below, at the right": [0.8, 0.8],
} as const;
type Point = keyof typeof points;

const first: Form = { "long-edge": "2560", megapixels: "", quality: "82" };

/** A picture as shot and smaller, side by side, before anybody decides on a form. */
export function SeeSmaller({ item, close }: { item: Item; close: () => void }) {
  const plan = usePlan();
  const renditions = (plan.data?.renditions ?? []).filter((r) => r.pictures);
  const formOf = (r: PlanRendition): Form => {
    const says = (key: string) => word(plan.data?.values, "renditions", r.name, key);
    return {
      "long-edge": says("long-edge"),
      megapixels: says("megapixels"),
      quality: says("quality") || first.quality,
    };
  };
  const [typed, setForm] = useState<Form>();
  const form = typed ?? (renditions[0] ? formOf(renditions[0]) : first);
  const [point, setPoint] = useState<Point>("the middle");
  const compare = useCompare(item);
  const forecast = useForecast();
  const rule = item.copies[0]?.rule ?? "";
  const chosen = renditions.find((r) => JSON.stringify(formOf(r)) === JSON.stringify(form));
  const set = (change: Partial<Form>) => setForm({ ...form, ...change });
  const show = () => {
    compare.mutate({ form, at: points[point] });
    forecast.mutate({ form, rule, kind: item.kind });
  };
  // Both are shown as it opens, in the first form that the plan has.
  const begun = useRef(false);
  useEffect(() => {
    if (plan.isPending || begun.current) return;
    begun.current = true;
    show();
  });
  return (
    <Dialog open onClose={close} className="relative z-30">
      <DialogBackdrop className="fixed inset-0 bg-tide-deep/50" />
      <DialogPanel className="fixed inset-0 overflow-y-auto bg-plank p-5 sm:inset-6 sm:rounded-lg sm:border sm:border-line">
        <div className="mb-4 flex items-start justify-between gap-3">
          <DialogTitle className="min-w-0 text-xl font-semibold break-words">
            {item.name}, smaller
          </DialogTitle>
          <Button onClick={close} aria-label="Close the comparison">
            <X aria-hidden className="size-4" />
          </Button>
        </div>
        <form
          className="mb-4 space-y-3"
          onSubmit={(e) => {
            e.preventDefault();
            show();
          }}
        >
          <div className="grid grid-cols-2 items-end gap-3 sm:grid-cols-5">
            <Field>
              <Label className="mb-1 block text-sm text-quiet">As</Label>
              <Select
                className={fieldLook}
                value={chosen?.name ?? ""}
                onChange={(e) => {
                  const r = renditions.find((one) => one.name === e.target.value);
                  if (r) setForm(formOf(r));
                }}
              >
                {renditions.map((r) => (
                  <option key={r.name} value={r.name}>
                    {r.name}
                  </option>
                ))}
                <option value="">limits of its own</option>
              </Select>
            </Field>
            <TextField
              label="Longer edge, pixels"
              hint="2560"
              value={form["long-edge"]}
              change={(edge) => set({ "long-edge": edge })}
            />
            <TextField
              label="Megapixels"
              hint="3"
              value={form.megapixels}
              change={(megapixels) => set({ megapixels })}
            />
            <TextField
              label="Quality, to 100"
              hint="82"
              value={form.quality}
              change={(quality) => set({ quality })}
            />
            <Field>
              <Label className="mb-1 block text-sm text-quiet">Look at</Label>
              <Select className={fieldLook} value={point} onChange={(e) => setPoint(e.target.value as Point)}>
                {Object.keys(points).map((p) => (
                  <option key={p}>{p}</option>
                ))}
              </Select>
            </Field>
          </div>
          <Button strong type="submit" disabled={compare.isPending}>
            {compare.isPending ? "It is made…" : "Show both"}
          </Button>
        </form>
        {forecast.isPending && (
          <p className="mb-3 text-quiet">A few of your pictures are made to tell what all come to…</p>
        )}
        <Failure error={forecast.error} />
        {forecast.data && (
          <p role="status" className="mb-3 rounded-md bg-wash p-3">
            {rule && <span className="font-semibold">By the rule {rule}. </span>}
            {forecast.data.says}
          </p>
        )}
        <Failure error={compare.error} />
        {compare.data && <Both compared={compare.data} />}
      </DialogPanel>
    </Dialog>
  );
}
