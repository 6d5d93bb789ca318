/** What a person of the demo asks of the application, as a browser or a program would. */
export interface Caller {
  get<T>(path: string): Promise<T>;
  send<T>(method: 'POST' | 'PUT', path: string, body?: object): Promise<T>;
}

/** One request that changed something. */
export interface Call {
  readonly person: string;
  readonly method: string;
  readonly path: string;
  readonly status: number;
}

/** Refused or not understood. What was answered is for the log alone: it may hold values. */
export class Refused extends Error {
  constructor(
    asked: string,
    readonly status: number,
    readonly answer: string,
  ) {
    super(`${asked} was answered with ${status}`);
  }
}

/**
 * Signs a person in.
 * @param address of the application, without a path
 * @param onCall hears of every request that may change something
 * @throws Refused for another password
 */
export async function signIn(
  address: string,
  { name, password }: { readonly name: string; readonly password: string },
  onCall: (call: Call) => void = () => undefined,
): Promise<Caller> {
  const headers = { 'content-type': 'application/json' };
  const signedIn = await fetch(`${address}/api/sign-in`, {
    method: 'POST',
    headers,
    body: JSON.stringify({ name, password }),
  });
  if (!signedIn.ok) throw new Refused(`signing in as ${name}`, signedIn.status, await signedIn.text());
  const cookie = signedIn.headers.getSetCookie()[0]!.split(';')[0]!;
  const { csrf } = (await signedIn.json()) as { csrf: string };
  const ask = async (method: string, path: string, body?: object): Promise<unknown> => {
    const answer = await fetch(`${address}/api/${path}`, {
      method,
      headers: { ...headers, cookie, 'x-csrf-token': csrf },
      ...(body === undefined ? {} : { body: JSON.stringify(body) }),
    });
    if (method !== 'GET') onCall({ person: name, method, path, status: answer.status });
    const text = await answer.text();
    if (!answer.ok) throw new Refused(`${method} ${path}`, answer.status, text);
    return text === '' ? undefined : JSON.parse(text);
  };
  return {
    get: <T>(path: string) => ask('GET', path) as Promise<T>,
    send: <T>(method: 'POST' | 'PUT', path: string, body?: object) => ask(method, path, body) as Promise<T>,
  };
}
