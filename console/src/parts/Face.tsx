import { Film, Image } from "lucide-react";
import { useState } from "react";

/** A small picture of an item; a sign of its kind until it is there, or where there is none. */
export function Face({
  device,
  item,
  kind,
  className = "size-12",
}: {
  device: string;
  item: string;
  kind: string;
  className?: string;
}) {
  const src = `/api/v1/items/${encodeURIComponent(device)}/${encodeURIComponent(item)}/face`;
  const [shown, setShown] = useState<{ src: string; ok: boolean }>();
  const Icon = kind === "video" ? Film : Image;
  const ok = shown?.src === src && shown.ok;
  const failed = shown?.src === src && !shown.ok;
  return (
    <span
      className={`relative grid shrink-0 place-items-center overflow-hidden rounded bg-wash text-quiet ${className}`}
    >
      {!ok && <Icon aria-hidden className="size-5" />}
      {!failed && (
        <img
          src={src}
          alt=""
          loading="lazy"
          decoding="async"
          onLoad={() => setShown({ src, ok: true })}
          onError={() => setShown({ src, ok: false })}
          className={`absolute inset-0 size-full object-cover ${ok ? "" : "opacity-0"}`}
        />
      )}
    </span>
  );
}
