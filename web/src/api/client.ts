import { Problem, type Result, client, etag, problemOf, unwrap } from "./call";
import type { components } from "./generated/schema";

type Schemas = components["schemas"];
export type Case = Schemas["Case"];
export type CaseInput = Schemas["CaseInput"];
export type Firmware = Schemas["Firmware"];
export type Check = Schemas["Check"];
export type WhatIf = Schemas["WhatIf"];
export type Drive = Schemas["Drive"];
export type Disk = Schemas["Disk"];
export type Partition = Schemas["Partition"];
export type Pin = Schemas["Pin"];
export type Row = Schemas["Row"];
export type Fact = Schemas["Fact"];
export type Question = Schemas["Question"];
export type Statement = Schemas["Statement"];
export type View = Schemas["View"];
export type Pair = Schemas["Pair"];
export type Contradiction = Schemas["Contradiction"];
export type Doubt = Schemas["Doubt"];
export type Reference = Schemas["Reference"];
export type DriveTables = Schemas["DriveTables"];
export type Reading = Schemas["Reading"];
export type Pieces = Schemas["Pieces"];
export type Piece = Schemas["Piece"];
export type BootListLine = Schemas["ToldBootListLine"];
export type Preparing = Schemas["Preparing"];
export type PlanOfCopy = Schemas["PlanOfCopy"];
export type ToldDisk = Schemas["ToldDisk"];
export type ToldPartition = Schemas["ToldPartition"];
export type Download = Schemas["Download"];
export type Attempt = Schemas["Attempt"];
export type Run = Schemas["Run"];
export type BootEntry = Schemas["BootEntry"];
export type Judgement = Schemas["Judgement"];
export type Bench = Schemas["Bench"];
export type BenchDrive = Schemas["BenchDrive"];
export type Benched = Schemas["Benched"];
export type Message = Schemas["Match"];
export type Repair = Schemas["Repair"];
export type PlanStep = Schemas["PlanStep"];
export type Plan = Schemas["Plan"];
export type StepForm = Schemas["Form"];
export type Command = Schemas["Command"];
export type State = Schemas["State"];
export type Toolbox = PlanStep["toolbox"];
export type Verdict = Schemas["Trace"]["verdict"];
export type Role = "original" | "clone";
export type Person = Schemas["Person"];
export type Account = Schemas["Account"];
export type NewAccount = Schemas["NewAccount"];
export type SecurityEvent = Schemas["Event"];
export type HistoryEntry = Schemas["Entry"];
export type PersonRole = Person["role"];
export type HandOver = Schemas["HandOver"];
export type StartSeen = Schemas["StartSeen"];
export type LookAt = Schemas["LookAt"];
export type Work = Schemas["Work"];
export type ReleaseRule = Schemas["ReleaseRule"];
export type Fate = "kept" | "data" | "wiped";
export type Settings = Schemas["Settings"];
export type ListedCase = Schemas["ListedCase"];
export type ModelMemory = Schemas["ModelMemory"];
export type FigureGroup = Schemas["FigureGroup"];

/** What cases are found by; empty for all. */
export interface CaseFilter {
  q?: string;
  reaches?: Verdict | "";
  stage?: string;
  model?: string;
  drive?: string;
  action?: string;
  time?: string;
}

export const listCases = (filter: CaseFilter, cursor?: string) =>
  unwrap(
    client.GET("/cases", {
      params: {
        query: {
          ...(Object.fromEntries(Object.entries(filter).filter(([, v]) => v)) as object),
          cursor,
          limit: 50,
        },
      },
    }),
  );

export const createCase = (body: CaseInput) => unwrap(client.POST("/cases", { body }));

export const getCase = (id: number) => unwrap(client.GET("/cases/{id}", { params: { path: { id } } }));

export const updateCase = (id: number, version: number, body: CaseInput) =>
  unwrap(
    client.PUT("/cases/{id}", { params: { path: { id }, header: { "If-Match": etag(version) } }, body }),
  );

export const checkCase = (id: number) =>
  unwrap(client.GET("/cases/{id}/check", { params: { path: { id } } }));

export const whatIf = (id: number, body: WhatIf) =>
  unwrap(client.POST("/cases/{id}/what-if", { params: { path: { id } }, body }));

export const findMessages = (q: string) =>
  unwrap(client.GET("/messages", { params: { query: { q: q || undefined } } }));

export const listPartitionTypes = () => unwrap(client.GET("/partition-types"));

export const switchOn = (body: Bench) => unwrap(client.POST("/bench", { body }));

/** A plan; one that the page asks for by itself does not keep the session from running out. */
export const getPlan = (id: number, toolboxes: Toolbox[], background: boolean) =>
  unwrap(
    client.GET("/cases/{id}/plan", {
      params: { path: { id }, query: { toolboxes: toolboxes.join(",") || undefined } },
      headers: background ? { "Latchkey-Background": "1" } : {},
    }),
  );

export interface MarkInput {
  step: string;
  state: "done" | "failed" | "skipped" | "undone";
  note?: string;
}

export const markStep = (id: number, version: number, toolboxes: Toolbox[], body: MarkInput) =>
  unwrap(
    client.POST("/cases/{id}/marks", {
      params: {
        path: { id },
        header: { "If-Match": etag(version) },
        query: { toolboxes: toolboxes.join(",") || undefined },
      },
      body,
    }),
  );

/** Bytes of a piece of evidence, which is in force on a drive. */
export const readBytes = (id: number, role: Role, evidence: number, offset: number, length: number) =>
  unwrap(
    client.GET("/cases/{id}/drives/{role}/bytes", {
      params: { path: { id, role }, query: { evidence, offset, length } },
    }),
  );

/** Answers a question of the check, by what the check says of both. */
export const answerQuestion = (
  id: number,
  version: number,
  question: string,
  option: string,
  toolboxes: Toolbox[],
) =>
  unwrap(
    client.POST("/cases/{id}/answers", {
      params: {
        path: { id },
        query: { toolboxes: toolboxes.join(",") },
        header: { "If-Match": etag(version) },
      },
      body: { question, option },
    }),
  );

/** Withdraws what was told of the machine. */
export const withdrawStatement = (id: number, version: number, fact: string) =>
  unwrap(
    client.DELETE("/cases/{id}/statements/{fact}", {
      params: { path: { id, fact }, header: { "If-Match": etag(version) } },
    }),
  );

/** A listing as it was pasted or dropped. */
export interface ListingText {
  /** The text as it came; a pasted one is a file named paste. */
  file: File;
  /** Overrules what is recognised; empty lets it be recognised. */
  format: string;
}

/** A pasted text as the server takes it. */
export const pasted = (text: string): ListingText => ({ file: new File([text], "paste"), format: "" });

function listingForm({ file, format }: ListingText, disks?: Record<string, string>) {
  const form = new FormData();
  form.set("file", file);
  form.set("format", format);
  if (disks) form.set("disks", JSON.stringify(disks));
  return form;
}

export const readListing = (id: number, text: ListingText) =>
  unwrap(
    client.POST("/cases/{id}/listings/reading", {
      params: { path: { id } },
      body: { file: "" },
      bodySerializer: () => listingForm(text),
    }),
  );

export const addListing = (id: number, version: number, text: ListingText, disks: Record<string, string>) =>
  unwrap(
    client.POST("/cases/{id}/listings", {
      params: { path: { id }, header: { "If-Match": etag(version) } },
      body: { file: "" },
      bodySerializer: () => listingForm(text, disks),
    }),
  );

export const addStickRecord = (id: number, version: number, steps: string, record: string) =>
  unwrap(
    client.POST("/cases/{id}/stick-record", {
      params: { path: { id }, header: { "If-Match": etag(version) } },
      body: { steps, record },
    }),
  );

export const getListing = (id: number, listing: number) =>
  unwrap(client.GET("/cases/{id}/listings/{listing}", { params: { path: { id, listing } } }));

export const withdrawListing = (id: number, version: number, listing: number, withdrawn: boolean) =>
  unwrap(
    client.PUT("/cases/{id}/listings/{listing}/withdrawn", {
      params: { path: { id, listing }, header: { "If-Match": etag(version) } },
      body: { withdrawn },
    }),
  );

export const withdrawBytes = (id: number, version: number, evidence: number, withdrawn: boolean) =>
  unwrap(
    client.PUT("/cases/{id}/evidence/{evidence}/withdrawn", {
      params: { path: { id, evidence }, header: { "If-Match": etag(version) } },
      body: { withdrawn },
    }),
  );

export const tellDisk = (id: number, version: number, role: Role, body: ToldDisk) =>
  unwrap(
    client.PUT("/cases/{id}/drives/{role}/told", {
      params: { path: { id, role }, header: { "If-Match": etag(version) } },
      body,
    }),
  );

/** Says what a file or a text is, and which disk it speaks of; nothing is kept. */
export function recognisePiece(id: number, file: File) {
  const form = new FormData();
  form.set("file", file);
  return unwrap(
    client.POST("/cases/{id}/pieces/reading", {
      params: { path: { id } },
      body: { file: "" },
      bodySerializer: () => form,
    }),
  );
}

export const swapDisks = (id: number, version: number) =>
  unwrap(
    client.POST("/cases/{id}/swap", { params: { path: { id }, header: { "If-Match": etag(version) } } }),
  );

export const tellBootList = (id: number, version: number, lines: string[]) =>
  unwrap(
    client.PUT("/cases/{id}/boot-list", {
      params: { path: { id }, header: { "If-Match": etag(version) } },
      body: { lines },
    }),
  );

export const listPieces = (id: number) =>
  unwrap(client.GET("/cases/{id}/evidence", { params: { path: { id } } }));

export const listReferences = (id: number) =>
  unwrap(client.GET("/cases/{id}/references", { params: { path: { id } } }));

export const listTables = (id: number) =>
  unwrap(client.GET("/cases/{id}/tables", { params: { path: { id } } }));

export const listDownloads = () => unwrap(client.GET("/downloads"));

export const whoAmI = () => unwrap(client.GET("/session"));

export const signIn = (body: { name?: string; password?: string; key?: string }) =>
  unwrap(client.POST("/session", { body }));

export const signOut = (everywhere: boolean) =>
  unwrap(client.DELETE("/session", { params: { query: { everywhere } } }));

export const setPassword = (body: { current?: string; new: string }) =>
  unwrap(client.PUT("/session/password", { body }));

export const listAccounts = () => unwrap(client.GET("/accounts"));

export const addAccount = (body: { name: string; role: PersonRole }) =>
  unwrap(client.POST("/accounts", { body }));

export const changeAccount = (account: number, body: { role: PersonRole; disabled: boolean }) =>
  unwrap(client.PUT("/accounts/{account}", { params: { path: { account } }, body }));

export const makeKey = (account: number) =>
  unwrap(client.POST("/accounts/{account}/key", { params: { path: { account } } }));

export const securityLog = (before?: number) =>
  unwrap(client.GET("/security-log", { params: { query: { before } } }));

export const getSettings = () => unwrap(client.GET("/settings"));

export const changeSettings = (body: Settings) => unwrap(client.PUT("/settings", { body }));

export const caseHistory = (id: number, before?: number) =>
  unwrap(client.GET("/cases/{id}/history", { params: { path: { id }, query: { before } } }));

export const closeCase = (id: number, version: number, closed: boolean) =>
  unwrap(
    client.PUT("/cases/{id}/closed", {
      params: { path: { id }, header: { "If-Match": etag(version) } },
      body: { closed },
    }),
  );

export const deleteCase = (id: number, version: number, title: string) =>
  unwrap(
    client.POST("/cases/{id}/deletion", {
      params: { path: { id }, header: { "If-Match": etag(version) } },
      body: { title },
    }),
  );

export interface Upload {
  file: File;
  tail?: File;
  /** The exact number of bytes, as it was typed; empty leaves it to the file. */
  capacity: string;
  /** As attached now, in bytes; 0 leaves it to the file. */
  sectorSize: number;
  confirm: boolean;
}

/** Sends evidence with real progress; openapi-fetch has none, so this is a plain request. */
export function addEvidence(
  id: number,
  version: number,
  role: Role,
  upload: Upload,
  progress: (fraction: number) => void,
  signal: AbortSignal,
): Promise<Case> {
  const form = new FormData();
  form.set("file", upload.file);
  if (upload.tail) form.set("tail", upload.tail);
  if (upload.capacity) form.set("capacity", upload.capacity);
  if (upload.sectorSize) form.set("sectorSize", String(upload.sectorSize));
  form.set("confirm", String(upload.confirm));
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", `/api/v1/cases/${id}/drives/${role}/evidence`);
    request.setRequestHeader("If-Match", etag(version));
    request.upload.onprogress = (e) => e.lengthComputable && progress(e.loaded / e.total);
    request.onerror = () =>
      reject(new Problem(0, "The upload broke off. Load the case again before you try once more."));
    request.onabort = () => reject(new Problem(0, "The upload was cancelled."));
    request.onload = () => {
      const body: unknown = parse(request.responseText);
      if (request.status === 201) resolve(body as Case);
      else
        reject(
          problemOf({
            error: body as Result<never>["error"],
            response: new Response(null, { status: request.status }),
          }),
        );
    };
    signal.addEventListener("abort", () => request.abort());
    request.send(form);
  });
}

function parse(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return undefined;
  }
}

/** The part of a case that a person enters, for sending it back changed. */
export function inputOf(c: Case): CaseInput {
  return {
    title: c.title,
    machine: c.machine,
    firmware: c.firmware,
    deviceOrder: c.deviceOrder,
    said: c.said,
    stands: c.stands,
    reach: c.reach,
    drives: c.drives.map(({ role, model, bus, attached }) => ({ role, model, bus, attached })),
  };
}

export const getPreparing = (id: number) =>
  unwrap(client.GET("/cases/{id}/prepare", { params: { path: { id } } }));

export const previewCopy = (id: number, body: PlanOfCopy) =>
  unwrap(client.POST("/cases/{id}/prepare/preview", { params: { path: { id } }, body }));

export const planCopy = (id: number, version: number, body: PlanOfCopy) =>
  unwrap(
    client.PUT("/cases/{id}/prepare", {
      params: { path: { id }, header: { "If-Match": etag(version) } },
      body,
    }),
  );

/** Says that a line of the list was seen to, or is open again. */
export const tickReady = (id: number, version: number, key: string, done: boolean) =>
  unwrap(
    client.PUT("/cases/{id}/prepare/ready/{key}", {
      params: { path: { id, key }, header: { "If-Match": etag(version) } },
      body: { done },
    }),
  );

/** Tells what the copying program shows. */
export const tellProgress = (
  id: number,
  version: number,
  body: { perCent?: number; gigabytes?: number; of?: number },
) =>
  unwrap(
    client.POST("/cases/{id}/prepare/progress", {
      params: { path: { id }, header: { "If-Match": etag(version) } },
      body,
    }),
  );

export const forgetProgress = (id: number, version: number) =>
  unwrap(
    client.DELETE("/cases/{id}/prepare/progress", {
      params: { path: { id }, header: { "If-Match": etag(version) } },
    }),
  );
