import { useEffect, useRef, useState } from "react";
import type { FormCompared, FormSize } from "../api";
import { bytes } from "../words";

/** Both, one over the other, with a divider between them. */
export function Both({ compared: c }: { compared: FormCompared }) {
  const [at, setAt] = useState(50);
  return (
    <div className="space-y-3">
      {c.why ? (
        <p className="rounded-md bg-lamp p-3">It would go as shot: {c.why}.</p>
      ) : (
        <dl className="grid gap-x-6 gap-y-1 sm:grid-cols-2">
          <Size name="As shot" of={c.asShot} />
          <Size name="Smaller" of={c.made} share={c.made.bytes / c.asShot.bytes} />
        </dl>
      )}
      <div className="relative mx-auto aspect-[3/2] w-full max-w-[min(42rem,calc(150vh-39rem))] min-w-[min(100%,18rem)] overflow-hidden rounded-md border border-line bg-wash has-focus-visible:outline-3 has-focus-visible:outline-offset-2 has-focus-visible:outline-tide">
        <Detail jpeg={c.after} label="A detail, made smaller" />
        <div className="absolute inset-0" style={{ clipPath: `inset(0 ${100 - at}% 0 0)` }}>
          <Detail jpeg={c.before} label="The same detail, as shot" />
        </div>
        <div
          aria-hidden
          className="pointer-events-none absolute inset-y-0 w-0.5 bg-plank shadow"
          style={{ left: `${at}%` }}
        />
        <span aria-hidden className="absolute bottom-2 left-2 rounded bg-plank/90 px-2 text-sm">
          as shot
        </span>
        <span aria-hidden className="absolute right-2 bottom-2 rounded bg-plank/90 px-2 text-sm">
          smaller
        </span>
        <input
          type="range"
          min={0}
          max={100}
          value={at}
          onChange={(e) => setAt(Number(e.target.value))}
          aria-label="How much of it is shown as shot"
          className="absolute inset-0 size-full cursor-ew-resize opacity-0"
        />
      </div>
      <p className="text-center text-sm text-quiet">
        Drag the divider, or move it with the arrow keys. Both are shown at one size.
      </p>
    </div>
  );
}

/** How large a picture is, in each of the units that people count in. */
function Size({ name, of, share }: { name: string; of: FormSize; share?: number }) {
  return (
    <div>
      <dt className="font-semibold">{name}</dt>
      <dd>
        {of.width} × {of.height}: {Math.max(of.width, of.height)} px on the longer edge,{" "}
        {((of.width * of.height) / 1e6).toFixed(1)} megapixels, {bytes(of.bytes)}
        {share !== undefined && ` (${Math.round(100 * share)}%)`}
      </dd>
    </div>
  );
}

/** A part of a picture, drawn as wide as its frame. */
function Detail({ jpeg, label }: { jpeg: string; label: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    let gone = false;
    const raw = Uint8Array.from(atob(jpeg), (c) => c.charCodeAt(0));
    void createImageBitmap(new Blob([raw], { type: "image/jpeg" })).then((picture) => {
      const to = canvas.current;
      if (gone || !to) return;
      to.width = picture.width;
      to.height = picture.height;
      to.getContext("2d")?.drawImage(picture, 0, 0);
    });
    return () => {
      gone = true;
    };
  }, [jpeg]);
  return (
    <div role="img" aria-label={label} className="absolute inset-0">
      <canvas ref={canvas} aria-hidden className="size-full object-cover" />
    </div>
  );
}
