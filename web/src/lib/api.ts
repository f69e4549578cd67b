// The one module that talks to the service.
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Self = Schemas["Self"];
export type RunRow = Schemas["RunRow"];
export type RunDetail = Schemas["RunDetail"];
export type TaskRecord = Schemas["TaskRecord"];
export type Balance = Schemas["Balance"];
export type PlaceBalance = Schemas["PlaceBalance"];
export type Log = Schemas["Log"];
export type Maker = Schemas["Maker"];
export type Outcome = TaskRecord["outcome"];

const client = createClient<paths>({ baseUrl: "" });

// The session's second secret. No other site, and no other port of this host,
// can read it; without it a session may only look.
const pageToken = "grayloft-page-token";

client.use({
  onRequest({ request }) {
    const page = localStorage.getItem(pageToken);
    if (page && request.method !== "GET") request.headers.set("X-Page-Token", page);
    return request;
  },
});

/** A request that was refused or failed, with a message for the person. */
export class Failure extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

async function ask<T>(request: Promise<{ data?: T; error?: Schemas["Problem"]; response: Response }>): Promise<T> {
  const answer = await request.catch(() => {
    throw new Failure(0, "The service cannot be reached.");
  });
  if (answer.error !== undefined || !answer.response.ok) {
    const { title, detail } = (answer.error ?? {}) as Partial<Schemas["Problem"]>;
    throw new Failure(answer.response.status, [title ?? answer.response.statusText, detail].filter(Boolean).join(": "));
  }
  return answer.data as T;
}

export const session = () => ask(client.GET("/session"));
export const signIn = async (token: string) => {
  const { page_token: page, ...self } = await ask(client.POST("/session", { body: { token } }));
  localStorage.setItem(pageToken, page);
  return self;
};
export const signOut = () => {
  localStorage.removeItem(pageToken);
  return ask(client.DELETE("/session"));
};
export const runs = (repo: string, query: { days?: number; before?: string; limit?: number }) =>
  ask(client.GET("/v1/{repo}/runs", { params: { path: { repo }, query } }));
export const run = (repo: string, id: string) =>
  ask(client.GET("/v1/{repo}/runs/{id}", { params: { path: { repo, id } } }));
export const runLog = (repo: string, id: string, task: string) =>
  ask(client.GET("/v1/{repo}/runs/{id}/log", { params: { path: { repo, id }, query: { task } } }));
export const balance = (repo: string, days: number) =>
  ask(client.GET("/v1/{repo}/balance", { params: { path: { repo }, query: { days } } }));

/** Calls changed with the id of each run that changes, until stopped; without an
 * id after the connection was lost and restored. */
export function follow(repo: string, changed: (id?: string) => void): () => void {
  const source = new EventSource(`/v1/${encodeURIComponent(repo)}/live`);
  let lost = false;
  source.addEventListener("run", (e) => changed(JSON.parse(e.data).id));
  source.addEventListener("error", () => (lost = true));
  source.addEventListener("open", () => {
    if (lost) changed();
    lost = false;
  });
  return () => source.close();
}
