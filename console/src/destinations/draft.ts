import type { Draft } from "../api";

export type Kind = "folder" | "webdav" | "sftp" | "s3";

/** The kinds of storage. */
export const kinds: { value: Kind; label: string }[] = [
  { value: "folder", label: "A disk or folder" },
  { value: "webdav", label: "A web storage (WebDAV)" },
  { value: "sftp", label: "A box on my network (SSH)" },
  { value: "s3", label: "A bucket (S3)" },
];

/** The fields of each kind, by their name in the form. */
export const fields: Record<
  Kind,
  { name: string; label: string; hint: string; secret?: boolean; optional?: boolean }[]
> = {
  folder: [{ name: "path", label: "Folder", hint: "/media/loft" }],
  webdav: [
    { name: "address", label: "Address", hint: "https://locker.example/dav/" },
    { name: "user", label: "User", hint: "", optional: true },
    { name: "password", label: "Password", hint: "", secret: true, optional: true },
  ],
  sftp: [
    { name: "address", label: "Address", hint: "shed.example:22" },
    { name: "user", label: "User", hint: "" },
    { name: "password", label: "Password", hint: "", secret: true, optional: true },
    { name: "path", label: "Folder", hint: "yard", optional: true },
  ],
  s3: [
    { name: "address", label: "Address", hint: "https://s3.example" },
    { name: "bucket", label: "Bucket", hint: "yard" },
    { name: "user", label: "Access key", hint: "" },
    { name: "password", label: "Secret key", hint: "", secret: true },
    { name: "path", label: "Names begin with", hint: "", optional: true },
  ],
};

/** The destination that was typed, with what is trusted of its server. */
export function draftOf(
  kind: Kind,
  v: Record<string, string>,
  trusted: Record<string, string>,
  makeFolder: boolean,
): Draft {
  const name = v.name ?? "";
  const text = (field: string) => v[field]?.trim() || undefined;
  return {
    name,
    makeFolder,
    password: v.password || undefined,
    key: v.key || undefined,
    destination: {
      kind,
      path: text("path"),
      url: kind === "webdav" || kind === "s3" ? text("address") : undefined,
      address: kind === "sftp" ? text("address") : undefined,
      bucket: text("bucket"),
      user: text("user"),
      ...trusted,
    },
  };
}
