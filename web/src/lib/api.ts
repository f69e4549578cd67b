// The one module that talks to the service.
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Self = Schemas["Self"];
export type RunRow = Schemas["RunRow"];
export type RunDetail = Schemas["RunDetail"];
export type TaskRecord = Schemas["TaskRecord"];
export type Balance = Schemas["Balance"];
export type GroupBalance = Schemas["GroupBalance"];
export type Figures = Schemas["Figures"];
export type RunPage = Schemas["RunPage"];
export type Facets = Schemas["Facets"];
export type TaskRow = Schemas["TaskRow"];
export type TaskPage = Schemas["TaskPage"];
export type TaskBehaviour = Schemas["TaskBehaviour"];
export type PlaceTimes = Schemas["PlaceTimes"];
export type TaskPoint = Schemas["TaskPoint"];
export type TaskDetail = Schemas["TaskDetail"];
export type Ingredients = Schemas["Ingredients"];
export type OutputRow = Schemas["OutputRow"];
export type Difference = Schemas["Difference"];
export type Finding = Schemas["Finding"];
export type CauseRow = Schemas["CauseRow"];
export type AdvicePage = Schemas["AdvicePage"];
export type ProjectRow = Schemas["ProjectRow"];
export type Reach = Schemas["Reach"];
export type Cache = Schemas["Cache"];
export type EntryDetail = Schemas["EntryDetail"];
export type TokenRow = Schemas["TokenRow"];
export type AuditPage = Schemas["AuditPage"];
export type Fleet = Schemas["Fleet"];
export type Request = Schemas["Request"];
export type Ask = Schemas["Ask"];
export type Job = Schemas["Job"];
export type RequestState = Request["state"];
export type Output = Schemas["Output"];
export type RunQuery = NonNullable<paths["/v1/{repo}/runs"]["get"]["parameters"]["query"]>;
export type BalanceQuery = NonNullable<paths["/v1/{repo}/balance"]["get"]["parameters"]["query"]>;
export type TaskQuery = NonNullable<paths["/v1/{repo}/tasks"]["get"]["parameters"]["query"]>;
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

/** Called when a request was refused because the session has ended. */
let ended = () => {};
export const whenEnded = (f: () => void) => (ended = f);

async function ask<T>(request: Promise<{ data?: T; error?: Schemas["Problem"]; response: Response }>): Promise<T> {
  const answer = await request.catch(() => {
    throw new Failure(0, "The service cannot be reached.");
  });
  if (answer.error !== undefined || !answer.response.ok) {
    if (answer.response.status === 401) ended();
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
export const runs = (repo: string, query: RunQuery) =>
  ask(client.GET("/v1/{repo}/runs", { params: { path: { repo }, query } }));
export const facets = (repo: string, days: number) =>
  ask(client.GET("/v1/{repo}/run-facets", { params: { path: { repo }, query: { days } } }));
export const balance = (repo: string, query: BalanceQuery) =>
  ask(client.GET("/v1/{repo}/balance", { params: { path: { repo }, query } }));
export const run = (repo: string, id: string) =>
  ask(client.GET("/v1/{repo}/runs/{id}", { params: { path: { repo, id } } }));
export const runLog = (repo: string, id: string, task: string, first?: number) =>
  ask(client.GET("/v1/{repo}/runs/{id}/log", { params: { path: { repo, id }, query: { task, first } } }));
export const runTask = (repo: string, id: string, task: string) =>
  ask(client.GET("/v1/{repo}/runs/{id}/task", { params: { path: { repo, id }, query: { task } } }));
export const difference = (repo: string, id: string, task: string, earlier: string) =>
  ask(
    client.GET("/v1/{repo}/runs/{id}/difference", { params: { path: { repo, id }, query: { task, with: earlier } } }),
  );
export const tasks = (repo: string, query: TaskQuery) =>
  ask(client.GET("/v1/{repo}/tasks", { params: { path: { repo }, query } }));
export const task = (repo: string, task: string, weeks: number) =>
  ask(client.GET("/v1/{repo}/tasks/{task}", { params: { path: { repo, task }, query: { weeks } } }));
export const advice = (repo: string, weeks: number) =>
  ask(client.GET("/v1/{repo}/advice", { params: { path: { repo }, query: { weeks } } }));
export const projects = (repo: string) => ask(client.GET("/v1/{repo}/projects", { params: { path: { repo } } }));
export const reach = (repo: string, name: string) =>
  ask(client.GET("/v1/{repo}/reach", { params: { path: { repo }, query: { path: name } } }));
export const cache = (repo: string, days: number) =>
  ask(client.GET("/v1/{repo}/cache", { params: { path: { repo }, query: { days } } }));
export const entry = (repo: string, key: string, shelf?: string) =>
  ask(client.GET("/v1/{repo}/entries/{key}", { params: { path: { repo, key }, query: { shelf } } }));
export const setRetention = (repo: string, body: Schemas["RetentionChange"]) =>
  ask(client.PUT("/v1/{repo}/cache/retention", { params: { path: { repo } }, body }));
export const tokens = (repo: string) => ask(client.GET("/v1/{repo}/tokens", { params: { path: { repo } } }));
export const makeToken = (repo: string, body: Schemas["NewToken"]) =>
  ask(client.POST("/v1/{repo}/tokens", { params: { path: { repo } }, body }));
export const rotateToken = (repo: string, id: number) =>
  ask(client.POST("/v1/{repo}/tokens/{id}/rotate", { params: { path: { repo, id } } }));
export const revokeToken = (repo: string, id: number) =>
  ask(client.DELETE("/v1/{repo}/tokens/{id}", { params: { path: { repo, id } } }));
export const audit = (repo: string, before?: number) =>
  ask(client.GET("/v1/{repo}/audit", { params: { path: { repo }, query: { before } } }));

export const fleet = (repo: string) => ask(client.GET("/v1/{repo}/fleet", { params: { path: { repo } } }));
export const requests = (repo: string, query: { before?: number; limit?: number; name?: string; open?: boolean }) =>
  ask(client.GET("/v1/{repo}/requests", { params: { path: { repo }, query } }));
export const request = (repo: string, id: number) =>
  ask(client.GET("/v1/{repo}/requests/{id}", { params: { path: { repo, id } } }));
export const requestOutput = (repo: string, id: number, first: number) =>
  ask(client.GET("/v1/{repo}/requests/{id}/output", { params: { path: { repo, id }, query: { first } } }));
export const requestPlan = async (repo: string, id: number) =>
  (await ask(client.GET("/v1/{repo}/requests/{id}/plan", { params: { path: { repo, id } } }))) as unknown as Plan;
export const makeRequest = (repo: string, body: Ask) =>
  ask(client.POST("/v1/{repo}/requests", { params: { path: { repo } }, body }));
export const cancelRequest = (repo: string, id: number) =>
  ask(client.POST("/v1/{repo}/requests/{id}/cancel", { params: { path: { repo, id } } }));

/** What plan --format json prints, as far as it is shown. */
export type Plan = {
  seconds: number;
  saved_seconds: number;
  totals: Record<string, number>;
  tasks: {
    task: string;
    outcome: string;
    reason: string | null;
    detail: string[];
    on: string[];
    expected_seconds: number | null;
    made_by: { name: string; place: string; run: string } | null;
    compared_with: { run: string; at: string } | null;
    files?: number;
    reads?: string[];
  }[];
};

/** The address of a blob, for a link that downloads it. */
export const blobAddress = (repo: string, digest: string) => `/v1/${encodeURIComponent(repo)}/blobs/${digest}`;

/** The address of a report of a run, for a link that downloads it. */
export const reportAddress = (repo: string, id: string, kind: "html" | "junit" | "trace") =>
  `/v1/${encodeURIComponent(repo)}/runs/${id}/report/${kind}`;

/** How often, in milliseconds, a live page asks again at most. */
const calm = 500;

/** Calls changed with the ids of runs that changed, at most twice a second, until
 * stopped; without ids after the connection was lost and restored. If the session
 * has ended, the next request finds out. Grew is called with the id of a run with a
 * task whose log grew, and asked with the id of a request that changed. */
export function follow(
  repo: string,
  changed: (ids?: Set<string>) => void,
  grew?: (id?: string) => void,
  asked?: (id?: number) => void,
): () => void {
  let source: EventSource | undefined;
  let ids = new Set<string>();
  let all = false;
  let waiting: ReturnType<typeof setTimeout> | undefined;
  let again: ReturnType<typeof setTimeout> | undefined;
  let lost = false;
  const tell = () => {
    waiting ??= setTimeout(() => {
      waiting = undefined;
      const now = all ? undefined : ids;
      ids = new Set();
      all = false;
      changed(now);
    }, calm);
  };
  const open = () => {
    source = new EventSource(`/v1/${encodeURIComponent(repo)}/live`);
    source.addEventListener("run", (e) => {
      ids.add(JSON.parse(e.data).id);
      tell();
    });
    source.addEventListener("log", (e) => grew?.(JSON.parse(e.data).id));
    source.addEventListener("request", (e) => asked?.(Number(JSON.parse(e.data).id)));
    source.addEventListener("error", () => {
      lost = true;
      if (source?.readyState !== EventSource.CLOSED) return;
      // Refused: the session may have ended, or the service restarts.
      session().then(
        () => (again = setTimeout(open, 3000)),
        (e: Failure) => {
          if (e.status !== 401) again = setTimeout(open, 3000);
        },
      );
    });
    source.addEventListener("open", () => {
      if (lost) {
        all = true;
        tell();
        grew?.();
        asked?.();
      }
      lost = false;
    });
  };
  // A browser opens six connections to a host: pages that nobody looks at must
  // not hold one each.
  const look = () => {
    if (document.visibilityState === "hidden") source?.close();
    else if (source?.readyState === EventSource.CLOSED) {
      open();
      all = true;
      tell();
      grew?.();
      asked?.();
    }
  };
  const leave = () => source?.close();
  document.addEventListener("visibilitychange", look);
  window.addEventListener("pagehide", leave);
  window.addEventListener("pageshow", look);
  open();
  return () => {
    document.removeEventListener("visibilitychange", look);
    window.removeEventListener("pagehide", leave);
    window.removeEventListener("pageshow", look);
    source?.close();
    clearTimeout(waiting);
    clearTimeout(again);
  };
}
