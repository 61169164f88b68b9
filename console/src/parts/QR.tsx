/** A QR picture: dark on light, whatever the page is. */
export function QR({ rows, of }: { rows: readonly string[]; of: string }) {
  const size = rows.length;
  const path = rows
    .flatMap((row, y) => [...row].map((is, x) => (is === "#" ? `M${x} ${y}h1v1h-1z` : "")))
    .join("");
  return (
    <svg
      role="img"
      aria-label={`QR picture of the code for ${of}`}
      viewBox={`0 0 ${size} ${size}`}
      className="size-56 shrink-0 rounded-md bg-white"
      shapeRendering="crispEdges"
    >
      <rect width={size} height={size} fill="#fff" />
      <path d={path} fill="#000" />
    </svg>
  );
}
