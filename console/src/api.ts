import createClient from "openapi-fetch";
import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import type { components, paths } from "./generated/api";
import { serialText } from "./format";
import { allVisible } from "./visible";

export type Schemas = components["schemas"];
export type Copy = Schemas["Copy"];
export type Lineage = Schemas["Lineage"];
export type Job = Schemas["Job"];
export type Plan = Schemas["Plan"];
export type Finding = Schemas["Finding"];
export type Asking = Schemas["Request"];

let csrf = "";
const client = createClient<paths>({ baseUrl: "/api/v1" });
client.use({
  onRequest({ request }) {
    if (request.method !== "GET") request.headers.set("X-CSRF-Token", csrf);
    return request;
  },
  async onResponse({ response }) {
    if (!response.headers.get("Content-Type")?.includes("json")) return response;
    const value: unknown = JSON.parse(await response.text(), allVisible);
    return new Response(JSON.stringify(value), response);
  },
});

/** Called when a session is over. */
let ended = () => {};
export const onEnded = (f: () => void) => {
  ended = f;
};

/** What went wrong with a call, in the service's words. */
export class Problem extends Error {
  code: string;
  next: string;
  likely: string[];
  constructor(p: Partial<Schemas["Problem"]> | undefined, fallback: string) {
    super(p?.detail ?? fallback);
    this.code = p?.code ?? "unreachable";
    this.next = p?.next ?? "";
    this.likely = p?.likely ?? [];
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

async function take<T>(answer: Promise<Answer<T>>): Promise<T> {
  let got: Answer<T>;
  try {
    got = await answer;
  } catch {
    throw new Problem(undefined, "The service does not answer. It may be starting again.");
  }
  if (!got.response.ok) {
    if (got.response.status === 401 && csrf) ended(); // there was one
    throw new Problem(got.error as Partial<Schemas["Problem"]>, `The service answers ${got.response.status}.`);
  }
  return got.data as T;
}

function remember(s: Schemas["Session"]) {
  csrf = s.csrf;
  return s;
}

export const signIn = async (name: string, password: string) =>
  remember(await take(client.POST("/session", { body: { name, password } })));
export async function signOut() {
  await take(client.DELETE("/session"));
  csrf = "";
}
/** What can be asked for, with the words for it. */
export const operationsQuery = queryOptions({
  queryKey: ["operations"],
  queryFn: () => take(client.GET("/operations")),
  staleTime: Infinity,
});
export const makePlan = (body: Asking) => take(client.POST("/plans", { body }));
export const startJob = (body: Asking, key: string) =>
  take(client.POST("/jobs", { body, params: { header: { "Idempotency-Key": key } } }));
export const cancelJob = (job: string) => take(client.POST("/jobs/{job}/cancel", { params: { path: { job } } }));
/** What a job was asked for, to ask for it again. */
export const jobRequest = (job: string) => take(client.GET("/jobs/{job}/request", { params: { path: { job } } }));
export const holdJob = (job: string) => take(client.POST("/jobs/{job}/hold", { params: { path: { job } } }));
export const resumeJob = (job: string) => take(client.POST("/jobs/{job}/resume", { params: { path: { job } } }));
/** Goes on with those of a job's machines that failed. */
export const resumeFailed = (job: string) =>
  take(client.POST("/jobs/{job}/resume", { params: { path: { job }, query: { failed: true } } }));
/** Has a move that was copied ahead cut over as soon as it can. */
export const cutOver = (job: string) =>
  take(client.POST("/jobs/{job}/cut-over", { params: { path: { job } }, body: {} }));
export const setRate = (job: string, bytesPerSecond: number) =>
  take(client.PUT("/jobs/{job}/rate", { params: { path: { job } }, body: { bytesPerSecond } }));
export const setLimits = (body: Schemas["Limits"]) => take(client.PUT("/limits", { body }));
export const tellingsQuery = queryOptions({
  queryKey: ["tellings"],
  queryFn: () => take(client.GET("/tellings")),
});
export const addTelling = (body: Schemas["NewTelling"]) => take(client.POST("/tellings", { body }));
export const tryTelling = (telling: string) =>
  take(client.POST("/tellings/{telling}/try", { params: { path: { telling } } }));
export const dropTelling = (telling: string) =>
  take(client.DELETE("/tellings/{telling}", { params: { path: { telling } } }));
export const sessionsQuery = (all: boolean) =>
  queryOptions({
    queryKey: ["people", "sessions", all],
    queryFn: () => take(client.GET("/sessions", { params: { query: { all } } })),
  });
export const endSession = (session: string) =>
  take(client.DELETE("/sessions/{session}", { params: { path: { session } } }));
export const tokensQuery = (all: boolean) =>
  queryOptions({
    queryKey: ["people", "tokens", all],
    queryFn: () => take(client.GET("/tokens", { params: { query: { all } } })),
  });
export const makeToken = (name: string, days: number) => take(client.POST("/tokens", { body: { name, days } }));
export const dropToken = (token: string) => take(client.DELETE("/tokens/{token}", { params: { path: { token } } }));
export type Role = "administrator" | "operator" | "viewer";
export const usersQuery = queryOptions({
  queryKey: ["people", "users"],
  queryFn: () => take(client.GET("/users")),
});
export const addUser = (body: { name: string; password: string; role: Role }) => take(client.POST("/users", { body }));
export const changeUser = (user: string, body: { password?: string; current?: string; role?: Role }) =>
  take(client.PATCH("/users/{user}", { params: { path: { user } }, body }));
export const dropUser = (user: string) => take(client.DELETE("/users/{user}", { params: { path: { user } } }));
export const survey = () => take(client.POST("/surveys", { body: {} }));
export const getTransfer = (job: string) =>
  take(client.GET("/jobs/{job}/transfer", { params: { path: { job }, query: { wait: 10 } } }));

/** Sends part of a file; openapi-fetch has no streams of bytes. */
export async function sendBytes(job: string, offset: number, body: Blob) {
  const response = await fetch(`/api/v1/jobs/${job}/transfer?offset=${offset}`, {
    method: "PUT",
    headers: { "Content-Type": "application/octet-stream", "X-CSRF-Token": csrf },
    body,
  });
  if (!response.ok) throw new Problem(await response.json().catch(() => undefined), "The transfer broke off.");
}

export const packageLink = (job: string) => `/api/v1/jobs/${job}/package`;

export const sessionQuery = queryOptions({
  queryKey: ["session"],
  queryFn: async () => remember(await take(client.GET("/session"))),
  retry: false,
});

const nextPage = <T extends { next?: string }>(page: T) => page.next || undefined;
const filterOf = (text: string) => (text ? (/[=~]/.test(text) ? text : `name~*${text}*`) : undefined);

export const lineagesQuery = (text: string) =>
  infiniteQueryOptions({
    queryKey: ["copies", "lineages", text],
    queryFn: ({ pageParam, signal }) =>
      take(
        client.GET("/lineages", {
          params: { query: { filter: filterOf(text), limit: 100, after: pageParam || undefined } },
          signal,
        }),
      ),
    initialPageParam: "",
    getNextPageParam: nextPage,
    placeholderData: keepPreviousData,
  });

export const hostsQuery = (text: string) =>
  infiniteQueryOptions({
    queryKey: ["hosts", text],
    queryFn: ({ pageParam, signal }) =>
      take(
        client.GET("/hosts", {
          params: { query: { filter: filterOf(text), limit: 100, after: pageParam || undefined } },
          signal,
        }),
      ),
    initialPageParam: "",
    getNextPageParam: nextPage,
    placeholderData: keepPreviousData,
  });

export const hostQuery = (host: string) =>
  queryOptions({
    queryKey: ["hosts", "one", host],
    queryFn: () => take(client.GET("/hosts/{host}", { params: { path: { host } } })),
    enabled: host !== "",
  });

export const hostCopiesQuery = (host: string) =>
  infiniteQueryOptions({
    queryKey: ["copies", "host", host],
    queryFn: ({ pageParam, signal }) =>
      take(
        client.GET("/copies", {
          params: { query: { filter: `host=${host}`, limit: 200, after: pageParam || undefined } },
          signal,
        }),
      ),
    initialPageParam: "",
    getNextPageParam: nextPage,
    enabled: host !== "",
  });

export const lineageQuery = (name: string) =>
  queryOptions({
    queryKey: ["copies", "lineage", name],
    queryFn: () => take(client.GET("/lineage", { params: { query: { name } } })),
  });

export const copyQuery = (name: string) =>
  queryOptions({
    queryKey: ["copies", "one", name],
    queryFn: () => take(client.GET("/copy", { params: { query: { name } } })),
    enabled: name !== "",
  });

export const shelvesQuery = queryOptions({
  queryKey: ["hosts", "shelves"],
  queryFn: () => take(client.GET("/shelves")),
});

export const packagesQuery = (text: string) =>
  infiniteQueryOptions({
    queryKey: ["copies", "packages", text],
    queryFn: ({ pageParam, signal }) =>
      take(
        client.GET("/copies", {
          params: {
            query: {
              filter: ["form=package", filterOf(text)].filter(Boolean).join(" "),
              limit: 100,
              after: pageParam || undefined,
            },
          },
          signal,
        }),
      ),
    initialPageParam: "",
    getNextPageParam: nextPage,
    placeholderData: keepPreviousData,
  });

/** Copies that a filter tells, or a part of a name. */
export const copiesQuery = (text: string, order: string) =>
  infiniteQueryOptions({
    queryKey: ["copies", "list", text, order],
    queryFn: ({ pageParam, signal }) =>
      take(client.GET("/copies", { ...copiesPage(text, order, 100, pageParam), signal })),
    initialPageParam: "",
    getNextPageParam: nextPage,
    placeholderData: keepPreviousData,
    retry: false,
  });
const copiesPage = (text: string, order: string, limit: number, after: string) => ({
  params: { query: { filter: filterOf(text), order, limit, after: after || undefined } },
});
const mostListed = 100_000; // copies that a page takes in at once

/** All copies that a filter tells, page by page. Too many are refused. */
export async function allCopies(text: string, order: string): Promise<Copy[]> {
  const all: Copy[] = [];
  let after = "";
  do {
    const page = await take(client.GET("/copies", copiesPage(text, order, 1000, after)));
    all.push(...page.items);
    after = page.next ?? "";
    if (after && all.length >= mostListed) {
      throw new Problem(undefined, "More than 100,000 copies fit. Narrow the filter, or use unvora copies -o json.");
    }
  } while (after);
  return all;
}

export type Found = Schemas["Found"];
export const searchQuery = (text: string) =>
  queryOptions({
    queryKey: ["copies", "search", text],
    queryFn: ({ signal }) => take(client.GET("/search", { params: { query: { text } }, signal })),
    enabled: text.length >= 2,
    placeholderData: keepPreviousData,
    retry: false,
  });

/** What a machine has said on its serial port; null where its host keeps no console, or others may not
 * read it. */
export const consoleQuery = (name: string, every: number) =>
  queryOptions({
    queryKey: ["console", name],
    queryFn: async () => {
      try {
        return serialText((await take(client.GET("/copy/console", { params: { query: { name } } }))).text);
      } catch (e) {
        if (e instanceof Problem && ["wrong", "permission.denied"].includes(e.code)) return null;
        throw e;
      }
    },
    refetchInterval: (q) => (every && q.state.data !== null ? every : false),
  });
export const typeConsole = (name: string, text: string) =>
  take(client.POST("/copy/console", { params: { query: { name } }, body: { text } }));

const ofCopy = (what: string, name: string) => `/api/v1/copy/${what}?name=${encodeURIComponent(name)}`;
/** A picture of what a machine shows, as an address that holds it. */
export async function getPicture(name: string, signal: AbortSignal): Promise<string> {
  const response = await fetch(ofCopy("picture", name), { signal });
  if (!response.ok) throw new Problem(await response.json().catch(() => undefined), "There is no picture.");
  const bytes = new Uint8Array(await response.arrayBuffer());
  return `data:image/png;base64,${btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join(""))}`;
}
/** Where a machine's display is reached. */
export const displayLink = (name: string) =>
  `${window.location.origin.replace(/^http/, "ws")}${ofCopy("display", name)}`;

/** What the host tells of a copy's folder, its disks with their chains. */
export const folderQuery = (host: string, folder: string) =>
  queryOptions({
    queryKey: ["copies", "folder", host, folder],
    queryFn: () => take(client.GET("/folder", { params: { query: { host, folder } } })),
    enabled: host !== "" && folder !== "",
    retry: false,
  });

export const rulesQuery = queryOptions({ queryKey: ["wiring"], queryFn: () => take(client.GET("/wiring")) });
export const segmentsQuery = queryOptions({
  queryKey: ["wiring", "segments"],
  queryFn: () => take(client.GET("/segments")),
});
export const addRule = (body: Schemas["NewRule"]) => take(client.POST("/wiring", { body }));
export const dropRule = (rule: string) => take(client.DELETE("/wiring/{rule}", { params: { path: { rule } } }));
export const wiringTryQuery = (network: string, vlan: number, host: string) =>
  queryOptions({
    queryKey: ["wiring", "try", network, vlan, host],
    queryFn: () => take(client.GET("/wiring-tries", { params: { query: { network, vlan, host } } })),
    enabled: host !== "" && (network !== "" || vlan > 0),
  });

export const setSegment = (body: { name: string; subnet: string; range?: string }) =>
  take(client.PUT("/segments", { body }));
export const landingQuery = queryOptions({ queryKey: ["landing"], queryFn: () => take(client.GET("/landing")) });
export const addLanding = (body: Schemas["NewLandingRule"]) => take(client.POST("/landing", { body }));
export const dropLanding = (rule: string) => take(client.DELETE("/landing/{rule}", { params: { path: { rule } } }));
export const addHost = (body: Schemas["AddHost"]) => take(client.POST("/hosts", { body }));
export const restHost = (host: string, resting: boolean) =>
  take(client.PATCH("/hosts/{host}", { params: { path: { host } }, body: { resting } }));
export const checkHost = (host: string) => take(client.GET("/hosts/{host}/checks", { params: { path: { host } } }));
export const setPool = (pool: string, body: { resting?: boolean; labels?: string[] }) =>
  take(client.PATCH("/pools", { params: { query: { pool } }, body }));

export const marksQuery = (lineage: string) =>
  queryOptions({
    queryKey: ["copies", "marks", lineage],
    queryFn: () => take(client.GET("/marks", { params: { query: { lineage } } })),
    enabled: lineage !== "",
  });
export const setMark = (body: { lineage: string; facet: string; kind: string }) => take(client.PUT("/marks", { body }));

export const looseDisksQuery = (host: string) =>
  queryOptions({
    queryKey: ["hosts", "disks", host],
    queryFn: () => take(client.GET("/disks", { params: { query: { filter: `host=${host}`, limit: 200 } } })),
    enabled: host !== "",
  });
export const trashQuery = (host: string) =>
  queryOptions({
    queryKey: ["copies", "trash", host],
    queryFn: () => take(client.GET("/trash", { params: { query: { host } } })),
    enabled: host !== "",
  });
export const adoptDisk = (host: string, file: string) => take(client.POST("/disks", { body: { host, file } }));
export const letGoDisk = (file: string) => take(client.DELETE("/disks", { params: { query: { file } } }));

export const attentionQuery = (left: boolean, cause: string) =>
  infiniteQueryOptions({
    queryKey: ["copies", "attention", left, cause],
    queryFn: async ({ pageParam, signal }) => {
      const answer = client.GET("/attention", {
        params: { query: { left, cause: cause || undefined, limit: 100, after: pageParam || undefined } },
        signal,
      });
      return { items: await take(answer), next: (await answer).response.headers.get("Unvora-Next") ?? undefined };
    },
    initialPageParam: "",
    getNextPageParam: nextPage,
    placeholderData: keepPreviousData,
  });
/** How much waits, by cause; each is counted up to mostWaiting, and one more means that there are more. */
export const waitingQuery = queryOptions({
  queryKey: ["copies", "waiting"],
  queryFn: ({ signal }) => take(client.GET("/attention/count", { signal })),
});
const mostWaiting = 500;
export type Waits = Schemas["Waits"];
/** What waits, in figures. */
export function figureOf(waits: { count: number }[]) {
  const sum = waits.reduce((n, w) => n + Math.min(w.count, mostWaiting), 0);
  return { sum, more: waits.some((w) => w.count > mostWaiting) ? "+" : "" };
}
export type Item = Schemas["AttentionItem"];
export const leaveAlone = (ids: string[], reason: string, days: number) =>
  take(client.POST("/attention/leave", { body: { ids, reason, days } }));
export const recognise = (copy: string, of: string) => take(client.PUT("/recognition", { body: { copy, of } }));
export const track = (copies: string[], tracked: boolean) =>
  take(client.PUT("/tracking", { body: { copies, tracked } }));
export const compareQuery = (a: string, b: string, exact: boolean) =>
  queryOptions({
    queryKey: ["copies", "compare", a, b, exact],
    queryFn: () => take(client.GET("/comparison", { params: { query: { a, b, exact } } })),
    enabled: a !== "" && b !== "",
    retry: false,
  });
export const historyQuery = (lineage: string) =>
  queryOptions({
    queryKey: ["copies", "history", lineage],
    queryFn: () => take(client.GET("/history", { params: { query: { lineage, limit: 200 } } })),
    enabled: lineage !== "",
  });
export const allHistoryQuery = (filter: string) =>
  infiniteQueryOptions({
    queryKey: ["copies", "history", "all", filter],
    queryFn: ({ pageParam, signal }) =>
      take(
        client.GET("/history", {
          params: { query: { filter: filter || undefined, limit: 100, after: pageParam || undefined } },
          signal,
        }),
      ),
    initialPageParam: "",
    getNextPageParam: nextPage,
    placeholderData: keepPreviousData,
    retry: false,
  });

export const jobQuery = (job: string) =>
  queryOptions({
    queryKey: ["jobs", "one", job],
    queryFn: () => take(client.GET("/jobs/{job}", { params: { path: { job } } })),
    retry: false,
  });
export const jobPlanQuery = (job: string) =>
  queryOptions({
    queryKey: ["plan", "of", job],
    queryFn: () => take(client.GET("/jobs/{job}/plan", { params: { path: { job } } })),
    staleTime: Infinity,
    retry: false,
  });
export const jobsQuery = queryOptions({
  queryKey: ["jobs"],
  queryFn: () => take(client.GET("/jobs", { params: { query: { limit: 100 } } })),
});
/** The children of a job over several machines, in the order in which they were made. */
export const childrenQuery = (parent: string) =>
  queryOptions({
    queryKey: ["jobs", "children", parent],
    queryFn: async () =>
      (await take(client.GET("/jobs", { params: { query: { parent, limit: 500 } } }))).items.reverse(),
  });
export const limitsQuery = queryOptions({ queryKey: ["jobs", "limits"], queryFn: () => take(client.GET("/limits")) });

export type Manager = Schemas["Manager"];
export const managersQuery = queryOptions({
  queryKey: ["hosts", "managers"],
  queryFn: () => take(client.GET("/managers")),
});
export const managerQuery = (manager: string) =>
  queryOptions({
    queryKey: ["copies", "ahead", manager],
    queryFn: () => take(client.GET("/managers/{manager}", { params: { path: { manager } } })),
    enabled: manager !== "",
  });
export const managerCopiesQuery = (manager: string) =>
  infiniteQueryOptions({
    queryKey: ["copies", "manager", manager],
    queryFn: ({ pageParam, signal }) =>
      take(
        client.GET("/copies", {
          params: { query: { filter: `manager=${manager}`, limit: 200, after: pageParam || undefined } },
          signal,
        }),
      ),
    initialPageParam: "",
    getNextPageParam: nextPage,
    enabled: manager !== "",
  });
export const addManager = (body: Schemas["AddManager"]) => take(client.POST("/managers", { body }));
export const dropManager = (manager: string) =>
  take(client.DELETE("/managers/{manager}", { params: { path: { manager } } }));
export const checkManager = (manager: string) =>
  take(client.GET("/managers/{manager}/checks", { params: { path: { manager } } }));
export const grantManager = (manager: string, body: Schemas["Grants"]) =>
  take(client.PATCH("/managers/{manager}", { params: { path: { manager } }, body }));
export const offerPairing = () => take(client.POST("/managers/pairing"));
export const pairManager = (body: Schemas["PairManager"]) => take(client.POST("/managers/pair", { body }));
