import createClient from "openapi-fetch";
import type { components, paths } from "./api.gen";

type Schemas = components["schemas"];
export type Found = Schemas["Found"];
export type FoundItem = Schemas["FoundItem"];
export type FoundMonth = Schemas["FoundMonth"];
export type BringAsked = Schemas["BringAsked"];
export type BringPlan = Schemas["BringPlan"];
export type SayAsked = Schemas["SayAsked"];
export type RoomAsked = Schemas["RoomAsked"];
export type RoomPlan = Schemas["RoomPlan"];
export type RoomOnDevice = Schemas["RoomOnDevice"];
export type RoomFile = Schemas["RoomFile"];
export type Mine = Schemas["Mine"];
export type Knows = Schemas["Knows"];
export type InboxPhone = Schemas["InboxPhone"];
export type PhoneAdd = Schemas["PhoneAdd"];
export type Door = Schemas["Door"];
export type PhoneKeys = Schemas["PhoneKeys"];
export type PhoneNetwork = Schemas["PhoneNetwork"];
export type Yard = Schemas["Yard"];
export type Device = Schemas["Device"];
export type Send = Schemas["Send"];
export type Hold = Schemas["Hold"];
export type HoldGroup = Schemas["HoldGroup"];
export type Lane = Schemas["Lane"];
export type Item = Schemas["Item"];
export type Copy = Schemas["Copy"];
export type Need = Schemas["Need"];
export type Story = Schemas["Story"];
export type Destination = Schemas["DestinationStatus"];
export type Share = Schemas["Share"];
export type Draft = Schemas["Draft"];
export type Trial = Schemas["Trial"];
export type Plan = Schemas["PlanText"];
export type Key = Schemas["Key"];
export type PlanEdit = Schemas["Edit"];
export type PlanEdits = Schemas["PlanEdits"];
export type PlanDevice = Schemas["PlanDevice"];
export type PlanFolder = Schemas["PlanFolder"];
export type SetupRoom = Schemas["SetupRoom"];
export type SetupNow = Schemas["SetupNow"];
export type SetupName = Schemas["SetupName"];
export type SetupChange = Schemas["SetupChange"];
export type SetupFolder = Schemas["SetupFolder"];
export type Look = Schemas["Look"];
export type BrowsedFolder = Schemas["BrowsedFolder"];
export type SetupDevice = Schemas["SetupDevice"];
export type LookKind = Schemas["LookKind"];
export type LookYear = Schemas["LookYear"];
export type LookFolder = Schemas["LookFolder"];
export type Card = Schemas["Card"];
export type LookLibrary = Schemas["LookLibrary"];
export type LookPicture = Schemas["LookPicture"];
export type PlanTried = Schemas["PlanTried"];
export type TriedKind = Schemas["TriedKind"];
export type TriedWay = Schemas["TriedWay"];
export type PlanRule = Schemas["PlanRule"];
export type Phrase = Schemas["Phrase"];
export type PlanDoubt = Schemas["Doubt"];
export type HeldRule = Schemas["HeldRule"];
export type HeldFolder = Schemas["HeldFolder"];
export type PlanOffer = Schemas["PlanOffer"];
export type PlanEdited = Schemas["PlanEdited"];
export type PlanVersion = Schemas["PlanVersion"];
export type Job = Schemas["Job"];
export type Conditions = Schemas["Conditions"];
export type FinishOrder = Schemas["FinishOrder"];
export type JoinCode = Schemas["JoinCode"];
export type DeviceDay = Schemas["DeviceDay"];
export type FormCompared = Schemas["FormCompared"];
export type FormSize = Schemas["FormSize"];
export type PlanRendition = Schemas["PlanRendition"];
export type Phone = Schemas["Phone"];
export type Strays = Schemas["Strays"];
export type StrayFolder = Schemas["StrayFolder"];

// The type tells the service that no form of another site asks: it is sent with
// every call, also with one that has no body.
export const api = createClient<paths>({ baseUrl: "/", headers: { "Content-Type": "application/json" } });

/** What went wrong, as the service says it. */
export class ServiceError extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
  }
}

type Detail = { location?: string; message?: string };
type Answer<T> = {
  data?: T;
  error?: { detail?: string; title?: string; errors?: Detail[] | null };
  response: Response;
};

/** What an answer says went wrong, each detail on a line of its own. */
export function sentences(error: Answer<unknown>["error"], otherwise: string): string {
  const lines = [error?.detail ?? error?.title ?? otherwise];
  for (const { location, message } of error?.errors ?? []) {
    lines.push([location, message].filter(Boolean).join(": "));
  }
  return lines.join("\n");
}

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
    throw new ServiceError(sentences(error, response.statusText), response.status);
  }
  return data as T;
}
