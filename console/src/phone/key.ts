/** The key of this phone: it comes in the fragment of the page's address, and the phone keeps it. */

const kept = "yard-key";

/** Takes the key out of the address, and tells it; "" where there is none. */
export function ownKey(): string {
  const given = /^#([a-z2-7]{32})$/.exec(location.hash)?.[1];
  if (given) {
    localStorage.setItem(kept, given);
    history.replaceState(null, "", location.pathname + location.search);
  }
  return localStorage.getItem(kept) ?? "";
}

/** A refusal of the service, in its words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    says: string,
  ) {
    super(says);
  }
}

/** Asks the service, with this phone's key. */
export async function ask<T>(path: string, body?: unknown): Promise<T> {
  const answer = await fetch(path, {
    method: body === undefined ? "GET" : "POST",
    headers: {
      Authorization: `Bearer ${ownKey()}`,
      ...(body !== undefined && { "Content-Type": "application/json" }),
    },
    body: body === undefined ? undefined : JSON.stringify(body),
  });
  const text = await answer.text();
  if (!answer.ok) throw new Refused(answer.status, saidIn(text));
  return (text === "" ? undefined : JSON.parse(text)) as T;
}

/** What a problem document says. */
export function saidIn(text: string): string {
  try {
    return (JSON.parse(text) as { detail?: string }).detail ?? "It did not work.";
  } catch {
    return "It did not work.";
  }
}
