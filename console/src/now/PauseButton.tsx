import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react";
import { Pause, Play } from "lucide-react";
import type { Device } from "../api";
import { Button, buttonLook } from "../parts/Button";
import { Failure } from "../parts/Failure";
import { usePause, useResume } from "../parts/actions";
import { when } from "../words";

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

/** Pauses a device for a while, or resumes it. */
export function PauseButton({ device: d }: { device: Device }) {
  const pause = usePause(d.name);
  const resume = useResume(d.name);
  if (d.pause.on) {
    return (
      <div className="text-right">
        <Button onClick={() => resume.mutate()} disabled={resume.isPending}>
          <Play aria-hidden className="size-4" /> Resume
        </Button>
        <p className="mt-1 text-sm text-quiet">
          {d.pause.until ? `paused until ${when(d.pause.until)}` : "paused until you resume"}
        </p>
        <Failure error={resume.error} />
      </div>
    );
  }
  return (
    <div>
      <Menu>
        <MenuButton className={buttonLook} aria-label={`Pause ${d.name}`}>
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
                onClick={() => pause.mutate(s.until())}
                className="block w-full rounded px-3 py-2 text-left data-focus:bg-wash"
              >
                {s.label}
              </button>
            </MenuItem>
          ))}
        </MenuItems>
      </Menu>
      <Failure error={pause.error} />
    </div>
  );
}
