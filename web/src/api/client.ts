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

async function ask(path: string, init?: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(path, { credentials: "same-origin", ...init });
  } catch {
    throw new ProblemError(
      0,
      "The server does not answer",
      "Is ./beacon start still running? Nothing is lost; the page goes on when it is back.",
    );
  }
  if (!response.ok) throw await problemOf(response);
  return response;
}

export async function get<T>(path: string): Promise<T> {
  return (await (await ask(path)).json()) as T;
}

export async function send<T>(method: string, path: string, body?: unknown): Promise<T> {
  const response = await ask(path, {
    method,
    headers: body === undefined ? {} : { "Content-Type": "application/json" },
    body: body === undefined ? undefined : JSON.stringify(body),
  });
  return (await response.json()) as T;
}

export async function upload(path: string, files: FileList): Promise<void> {
  const form = new FormData();
  for (const file of files) form.append("files", file, file.name);
  await ask(path, { method: "POST", body: form });
}

export async function bytes(path: string, signal?: AbortSignal): Promise<Response> {
  return ask(path, { signal });
}
