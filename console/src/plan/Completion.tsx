import { Button } from "../parts/Button";
import { offers } from "./complete";

const most = 14;

/** What may stand where the caret is in the plan's text, to be put there. */
export default function Completion(props: {
  text: string;
  caret: number;
  put: (text: string, caret: number) => void;
}) {
  const { text, caret, put } = props;
  const word = /[\w-]*$/.exec(text.slice(0, caret))?.[0] ?? "";
  const list = offers(text, caret)
    .filter((o) => o.text.startsWith(word) && o.text !== word)
    .slice(0, most);
  if (list.length === 0) return null;
  const from = caret - word.length;
  return (
    <div role="group" aria-label="What may stand here" className="mt-2">
      <p className="mb-1 text-sm text-quiet">What may stand here</p>
      <ul className="flex flex-wrap gap-2">
        {list.map((o) => (
          <li key={o.text}>
            <Button
              title={o.says}
              onClick={() => put(text.slice(0, from) + o.text + text.slice(caret), from + o.text.length)}
            >
              {o.text.trim()}
            </Button>
          </li>
        ))}
      </ul>
    </div>
  );
}
