import { Button } from "../parts/Button";
import { Failure } from "../parts/Failure";

const place = /^[^:]*:(\d+):(\d+): (.*)$/;

/** What is wrong in a text, each mistake under its line, with the way there. */
export function Mistakes(props: { error: Error | null; text: string; goTo: (line: number) => void }) {
  const { error, text, goTo } = props;
  if (!error) return null;
  const [first = "", ...rest] = error.message.split("\n");
  const found = rest.map((line) => place.exec(line));
  if (rest.length === 0 || found.some((m) => m === null)) return <Failure error={error} />;
  const lines = text.split("\n");
  return (
    <div role="alert" className="space-y-2 rounded-md bg-alarm p-3">
      <p>{first}</p>
      <ol className="space-y-2">
        {found.map((m, i) => {
          const line = Number(m?.[1]);
          return (
            <li key={i}>
              <pre className="overflow-hidden font-mono text-sm text-quiet wrap-anywhere whitespace-pre-wrap">
                {line}: {lines[line - 1]}
              </pre>
              <p className="flex flex-wrap items-center gap-2 pl-4">
                <span className="min-w-0 wrap-anywhere">{m?.[3]}</span>
                <Button onClick={() => goTo(line)}>Go to line {line}</Button>
              </p>
            </li>
          );
        })}
      </ol>
    </div>
  );
}
