import createClient from "openapi-fetch";
import type { components, paths } from "./api.gen";

type Schemas = components["schemas"];
export type Yard = Schemas["Yard"];
export type Device = Schemas["Status"];
export type Send = Schemas["Send"];
export type Hold = Schemas["Hold"];
export type HoldGroup = Schemas["HoldGroup"];
export type Lane = Schemas["LaneStatus"];
export type Copy = Schemas["Copy"];
export type Story = Schemas["Story"];
export type Destination = Schemas["DestinationStatus"];
export type Share = Schemas["Share"];
export type Draft = Schemas["Draft"];
export type Trial = Schemas["Trial"];
export type Conditions = Schemas["Conditions"];
export type Phone = Schemas["Phone"];

export const api = createClient<paths>({ baseUrl: "/" });

/** What went wrong, as the service says it. */
export class ServiceError extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
  }
}

type Answer<T> = { data?: T; error?: { detail?: string; title?: string }; response: Response };

/** The body of an answer, or a ServiceError with the service's own words. */
export async function body<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new ServiceError("The service does not answer.", 0);
  }
  const { data, error, response } = answer;
  if (!response.ok) {
    throw new ServiceError(error?.detail ?? error?.title ?? response.statusText, response.status);
  }
  return data as T;
}
