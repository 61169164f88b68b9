import type { ReactNode } from "react";

/** A message that stands in place of a page's content. */
export function Notice({
  title,
  tone = "plain",
  children,
}: {
  title: string;
  tone?: "plain" | "alarm";
  children: ReactNode;
}) {
  return (
    <section
      role={tone === "alarm" ? "alert" : undefined}
      className={`max-w-2xl rounded-lg border border-line p-5 ${tone === "alarm" ? "bg-alarm" : "bg-plank"}`}
    >
      <h1 className="mb-2 text-xl font-semibold">{title}</h1>
      <div className="space-y-2 text-quiet">{children}</div>
    </section>
  );
}

/** Bars in the shape of what will come. */
export function Loading({ what }: { what: string }) {
  return (
    <div role="status" className="space-y-4">
      <span className="sr-only">Loading {what}</span>
      {["w-1/2", "w-full", "w-5/6", "w-full"].map((w, i) => (
        <div key={i} className={`h-8 rounded bg-wash ${w}`} />
      ))}
    </div>
  );
}
