import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { Pause } from "lucide-react";
import { buttonLook } from "../parts/Button";

const spans = [
  { label: "for an hour", until: () => new Date(Date.now() + 3600_000) },
  { label: "until tomorrow, 06:00", until: () => tomorrow(6) },
  { label: "until I resume", until: () => undefined },
];

function tomorrow(hour: number): Date {
  const d = new Date();
  d.setDate(d.getDate() + 1);
  d.setHours(hour, 0, 0, 0);
  return d;
}

type Props = { name: string; pause: (until: Date | undefined) => void };

/** For how long a device is paused. */
export default function PauseMenu({ name, pause }: Props) {
  return (
    <Menu>
      <MenuButton className={buttonLook} aria-label={`Pause ${name}`}>
        <Pause aria-hidden className="size-4" /> Pause
      </MenuButton>
      <MenuItems
        anchor="bottom end"
        className="z-10 mt-1 rounded-md border border-line bg-plank p-1 shadow-lg"
      >
        {spans.map((s) => (
          <MenuItem key={s.label}>
            <button
              type="button"
              onClick={() => pause(s.until())}
              className="block w-full rounded px-3 py-2 text-left data-focus:bg-wash"
            >
              {s.label}
            </button>
          </MenuItem>
        ))}
      </MenuItems>
    </Menu>
  );
}
