import { File, FileText, Film, Image, Music } from "lucide-react";
import { useEffect, useRef, useState } from "react";

const icons: Record<string, typeof Image> = { video: Film, audio: Music, document: FileText, other: File };
const mostTries = 5;

/** A small picture of an item; a sign of its kind until it is there, or where there is none. */
export function Face(props: { device: string; item: string; kind: string; className?: string }) {
  const { device, item, kind, className } = props;
  const at = `/api/v1/items/${encodeURIComponent(device)}/${encodeURIComponent(item)}/face`;
  return <SmallPicture at={at} kind={kind} className={className} />;
}

/** A small picture that the service makes; a sign of its kind until it is there. */
export function SmallPicture({
  at,
  kind,
  says = "",
  className = "size-12",
}: {
  at: string;
  kind: string;
  says?: string;
  className?: string;
}) {
  // While it is being made there is none yet: it is asked for again, ever later.
  const [tries, setTries] = useState(0);
  const [shown, setShown] = useState("");
  const again = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => () => clearTimeout(again.current), []);
  const src = tries === 0 ? at : `${at}?try=${tries}`;
  const ok = shown === at;
  const later = () => {
    if (tries < mostTries) again.current = setTimeout(() => setTries(tries + 1), 1000 * 2 ** tries);
  };
  const Icon = icons[kind] ?? Image;
  return (
    <span
      className={`relative grid shrink-0 place-items-center overflow-hidden rounded bg-wash text-quiet ${className}`}
    >
      {!ok && <Icon aria-hidden className="size-5" />}
      <img
        src={src}
        alt={ok ? says : ""}
        loading="lazy"
        decoding="async"
        onLoad={() => setShown(at)}
        onError={later}
        className={`absolute inset-0 size-full object-cover ${ok ? "" : "opacity-0"}`}
      />
    </span>
  );
}
