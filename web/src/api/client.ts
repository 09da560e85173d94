/** An answer of the server other than the one that was asked for, in words (RFC 9457). */
export class ProblemError extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
  ) {
    super(detail ? `${title}. ${detail}` : title);
  }
}

async function problemOf(response: Response): Promise<ProblemError> {
  try {
    const body = (await response.json()) as { title?: string; detail?: string };
    return new ProblemError(response.status, body.title ?? response.statusText, body.detail ?? "");
  } catch {
    return new ProblemError(response.status, response.statusText || "No answer", "");
  }
}

/** A word for this tab, so that each takes back its own actions; it outlives a reload. */
function pageWord(): string {
  try {
    const kept = sessionStorage.getItem("beacon-page") ?? newWord();
    sessionStorage.setItem("beacon-page", kept);
    return kept;
  } catch {
    return "";
  }
}

function newWord(): string {
  const bytes = crypto.getRandomValues(new Uint8Array(12));
  return Array.from(bytes, (byte) => byte.toString(16).padStart(2, "0")).join("");
}

const PAGE = pageWord();

async function ask(path: string, init?: RequestInit): Promise<Response> {
  let response: Response;
  const headers = { "X-Beacon-Page": PAGE, ...(init?.headers as Record<string, string>) };
  try {
    response = await fetch(path, { credentials: "same-origin", ...init, headers });
  } catch (error) {
    if (init?.signal?.aborted) throw error;
    throw new ProblemError(
      0,
      "The server does not answer",
      "Is ./beacon start still running? Nothing is lost; the page goes on when it is back.",
    );
  }
  if (!response.ok) throw await problemOf(response);
  return response;
}

/** `signal` ends the wait for what is no longer wanted. */
export async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  return (await (await ask(path, { signal })).json()) as T;
}

/** `seen` is the revision of the campaign that the page shows: the server refuses to overwrite what
 * came after it. */
export async function send<T>(
  method: string,
  path: string,
  body?: unknown,
  seen?: number,
): Promise<T> {
  const response = await ask(path, {
    method,
    headers: {
      ...(body === undefined ? {} : { "Content-Type": "application/json" }),
      ...(seen === undefined ? {} : { "If-Match": `"${seen}"` }),
    },
    body: body === undefined ? undefined : JSON.stringify(body),
  });
  return (await response.json()) as T;
}

/** End this browser's session; the next look needs a new address or the password. */
export async function signOut(): Promise<void> {
  await ask("/api/session", { method: "DELETE" });
}

export async function upload(path: string, files: FileList): Promise<void> {
  const form = new FormData();
  for (const file of files) form.append("files", file, file.name);
  await ask(path, { method: "POST", body: form });
}

export async function bytes(path: string, signal?: AbortSignal): Promise<Response> {
  return ask(path, { signal });
}
