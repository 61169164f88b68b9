/** The content of files, told by workers beside the page. */

const workers = 2;

export class Hashes {
  private readonly all: Worker[] = [];
  private readonly waiting = new Map<number, (sum: string) => void>();
  private next = 0;

  /** The SHA-256 of a file, in hex; "" where it cannot be read. */
  of(file: File): Promise<string> {
    if (this.all.length < workers) this.all.push(this.worker());
    const id = this.next++;
    return new Promise((done) => {
      this.waiting.set(id, done);
      this.all[id % this.all.length]?.postMessage({ id, file });
    });
  }

  private worker(): Worker {
    const w = new Worker(new URL("./hash.worker.ts", import.meta.url), { type: "module" });
    w.addEventListener("message", (e: MessageEvent<{ id: number; sum: string }>) => {
      this.waiting.get(e.data.id)?.(e.data.sum);
      this.waiting.delete(e.data.id);
    });
    return w;
  }
}
