import { createSHA256 } from "hash-wasm";

/** Takes the SHA-256 of files, a piece at a time, so that no file is held whole. */

const piece = 4 << 20;

addEventListener("message", (e: MessageEvent<{ id: number; file: File }>) => {
  const { id, file } = e.data;
  sumOf(file).then(
    (sum) => postMessage({ id, sum }),
    () => postMessage({ id, sum: "" }),
  );
});

async function sumOf(file: File): Promise<string> {
  const sum = await createSHA256();
  sum.init();
  for (let at = 0; at < file.size; at += piece) {
    sum.update(new Uint8Array(await file.slice(at, at + piece).arrayBuffer()));
  }
  return sum.digest("hex");
}
