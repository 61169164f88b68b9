import { Upload, type DetailedError } from "tus-js-client";
import { Hashes } from "./hashes";
import type { Knows } from "../api";
import { ask, ownKey, Refused, saidIn } from "./key";

/** Hands files over: tells first which are known by their content, and sends the rest, a few at once, until each is there. */

export type Phase = "reading" | "known" | "waiting" | "sending" | "handed" | "away" | "failed";

/** A file that was picked. Its sum is told only where something of its size is known, or an upload goes on. */
export type Picked = {
  id: number;
  file: File;
  path: string;
  phase: Phase;
  sent: number;
  sum: string;
  says: string;
  may: boolean;
};

const atOnce = 6;
const asked = 50;
/** Up to so many bytes a file goes with the call that begins it. */
const small = 16 << 20;
const again = 5000;
const silent = "Nothing answers at home just now. It goes on by itself when the network is back.";
/** Bytes of a file's beginning and end that tell it from others. */
const end = 64 << 10;

/** What the page is told of, each time that something changed. */
export type Handing = {
  files: readonly Picked[];
  paused: boolean;
  /** Bytes a second, of the last seconds. */
  rate: number;
  /** Why nothing goes now, else "". */
  says: string;
  /** The key is none any more. */
  shut: boolean;
};

export class Hander {
  private files: Picked[] = [];
  private readonly hashes = new Hashes();
  private readonly uploads = new Map<number, Upload>();
  private toAsk: Picked[] = [];
  private asking = false;
  private starting = 0;
  private reading = 0;
  private paused = false;
  private shut = false;
  private says = "";
  private marks: [number, number][] = [];
  private told: Handing = { files: [], paused: false, rate: 0, says: "", shut: false };
  private readonly listeners = new Set<() => void>();
  private due = false;

  constructor() {
    addEventListener("online", () => this.wake());
  }

  readonly subscribe = (listener: () => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };

  readonly now = () => this.told;

  /** Takes files that were picked. One that was picked before is not taken twice. */
  add(list: Iterable<File>) {
    const before = new Set(this.files.filter((f) => f.phase !== "failed").map((f) => keyOf(f.file, f.path)));
    for (const file of list) {
      const path = file.webkitRelativePath || file.name;
      if (before.has(keyOf(file, path))) continue;
      const one: Picked = {
        id: this.files.length,
        file,
        path,
        phase: "reading",
        sent: 0,
        sum: "",
        says: "",
        may: false,
      };
      this.files.push(one);
      this.toAsk.push(one);
    }
    this.keepOpen();
    this.wake();
  }

  pause(on: boolean) {
    this.paused = on;
    if (on) {
      for (const [id, upload] of this.uploads) {
        void upload.abort();
        const one = this.files[id];
        if (one) one.phase = "waiting";
      }
      this.uploads.clear();
    }
    this.wake();
  }

  /** Begins what can begin. */
  wake() {
    this.says = "";
    this.read();
    void this.askKnown();
    this.send();
    this.tell();
  }

  /** Takes the content of files that may be known. */
  private read() {
    for (const one of this.toRead.splice(0, 2 - this.reading)) {
      this.reading++;
      void this.hashes.of(one.file).then((sum) => {
        this.reading--;
        one.sum = sum;
        if (sum === "") this.set(one, "failed", "The phone does not let it be read: choose it once more.");
        else this.toAsk.push(one);
        this.wake();
      });
    }
  }

  private readonly toRead: Picked[] = [];

  /** Asks what of some files is known: by their size first, which costs nothing to tell, then by their content. */
  private async askKnown() {
    if (this.asking || this.toAsk.length === 0 || this.shut) return;
    this.asking = true;
    const some = this.toAsk.slice(0, asked);
    try {
      const told = await ask<Knows[]>(
        "/p/known",
        some.map((f) => ({ ...(f.sum !== "" && { sha256: f.sum }), bytes: f.file.size })),
      );
      this.toAsk = this.toAsk.slice(some.length);
      some.forEach((f, i) => {
        const is = told[i];
        if (f.sum === "" && is?.like) {
          this.toRead.push(f);
          return;
        }
        f.may = is?.may ?? false;
        this.set(f, is?.known ? "known" : "waiting", is?.says ?? "");
        if (is?.known) f.sent = f.file.size;
      });
    } catch (err) {
      this.refused(err);
      await new Promise((done) => setTimeout(done, again));
    }
    this.asking = false;
    this.wake();
  }

  private send() {
    if (this.paused || this.shut) return;
    for (const one of this.files) {
      if (this.uploads.size + this.starting >= atOnce) return;
      if (one.phase === "waiting" && !this.uploads.has(one.id)) void this.sendOne(one);
    }
  }

  private async sendOne(one: Picked) {
    this.set(one, "sending", "");
    this.starting++;
    const mark = await this.markOf(one.file);
    const headers: Record<string, string> = { Authorization: `Bearer ${ownKey()}` };
    const upload = new Upload(one.file, {
      endpoint: "/p/uploads",
      headers,
      metadata: {
        filename: one.file.name,
        path: one.path,
        modified: String(one.file.lastModified),
        ...(one.sum !== "" && { sha256: one.sum }),
      },
      retryDelays: [0, 1000, 3000, 5000],
      uploadDataDuringCreation: one.file.size <= small,
      removeFingerprintOnSuccess: true,
      fingerprint: () => Promise.resolve(mark),
      onShouldRetry: (err: DetailedError) => {
        const status = err.originalResponse?.getStatus() ?? 0;
        return navigator.onLine && (status === 0 || status === 409 || (status >= 500 && status !== 507));
      },
      onProgress: (sent) => {
        one.sent = sent;
        this.tell();
      },
      onSuccess: () => {
        this.uploads.delete(one.id);
        one.sent = one.file.size;
        this.set(one, "handed", "Handed over, and not safe yet: keep it here.");
        this.wake();
      },
      onError: (err) => {
        this.uploads.delete(one.id);
        this.failed(one, err as DetailedError);
      },
    });
    const before = await upload.findPreviousUploads();
    if (before[0]) {
      upload.resumeFromPreviousUpload(before[0]);
      headers["Upload-Content-Sha256"] = one.sum = one.sum || (await this.hashes.of(one.file));
    }
    this.starting--;
    if (this.paused || this.shut) {
      this.set(one, "waiting", "");
      return;
    }
    this.uploads.set(one.id, upload);
    upload.start();
  }

  /** Tells a file from others without reading all of it: by its name, its size, and its first and last bytes. */
  private async markOf(file: File): Promise<string> {
    const ends = new File([file.slice(0, end), file.slice(Math.max(0, file.size - end))], file.name);
    return `yard-${file.name}-${file.size}-${await this.hashes.of(ends)}`;
  }

  /** What cannot mend itself fails; all else is tried again in a while. */
  private failed(one: Picked, err: DetailedError) {
    const status = err.originalResponse?.getStatus() ?? 0;
    const says = saidIn(err.originalResponse?.getBody() ?? "");
    if (status === 401) {
      this.shut = true;
      this.set(one, "waiting", says);
    } else if (status === 400 && says !== "It did not work.") {
      this.set(one, "failed", says);
    } else {
      this.set(one, "away", "");
      this.says = status === 507 ? says : silent;
      setTimeout(() => {
        if (one.phase === "away") this.set(one, "waiting", "");
        this.wake();
      }, again);
    }
    this.tell();
    if (status !== 507) this.send();
  }

  private refused(err: unknown) {
    if (err instanceof Refused && err.status === 401) this.shut = true;
    this.says = silent;
    this.tell();
  }

  private set(one: Picked, phase: Phase, says: string) {
    one.phase = phase;
    one.says = says;
  }

  private mark() {
    const sent = this.files.reduce((n, f) => n + (f.phase === "known" ? 0 : f.sent), 0);
    const now = performance.now();
    this.marks = [...this.marks.filter(([at]) => now - at < 8000), [now, sent]];
  }

  private rate(): number {
    const first = this.marks[0];
    const last = this.marks.at(-1);
    if (!first || !last) return 0;
    const [from, before] = first;
    const [to, after] = last;
    return to > from ? Math.max(0, (after - before) / ((to - from) / 1000)) : 0;
  }

  /** The phone remembers how many files are open: after a reload it has to be asked for them once more. */
  private keepOpen() {
    const open = this.files.filter(isOpen).length;
    if (open > 0) localStorage.setItem(openKey, String(open));
    else localStorage.removeItem(openKey);
  }

  /** Tells the page, at most a few times a second. */
  private tell() {
    if (this.due) return;
    this.due = true;
    setTimeout(() => {
      this.due = false;
      this.mark();
      this.told = {
        files: [...this.files],
        paused: this.paused,
        rate: this.rate(),
        says: this.says,
        shut: this.shut,
      };
      this.keepOpen();
      for (const one of this.listeners) one();
    }, 400);
  }
}

/** Whether a file is still to be handed over. */
export const isOpen = (f: Picked) => f.phase !== "handed" && f.phase !== "known" && f.phase !== "failed";

const openKey = "yard-open";

/** How many files were not handed over when the page was left. */
export const leftOpen = () => Number(localStorage.getItem(openKey) ?? 0);

const keyOf = (file: File, path: string) => `${path} ${file.size} ${file.lastModified}`;
