import { Radio, RadioGroup } from "@headlessui/react";

/** One of a few, side by side. */
export function Choice<T extends string>({
  label,
  value,
  options,
  change,
}: {
  label: string;
  value: T;
  options: { value: T; label: string }[];
  change: (value: T) => void;
}) {
  return (
    <RadioGroup value={value} onChange={change} aria-label={label} className="flex flex-wrap gap-2">
      {options.map((o) => (
        <Radio
          key={o.value}
          value={o.value}
          className="cursor-pointer rounded-md border border-line bg-plank px-3 py-1.5 data-checked:border-tide data-checked:bg-wash data-checked:font-semibold"
        >
          {o.label}
        </Radio>
      ))}
    </RadioGroup>
  );
}
