/** What PostgreSQL says as it ends a connection or does not take one. */
const ENDED = /^(57P0[1-5]|08\w{3}|53300)$/;
const NETWORK: readonly string[] = ['ECONNREFUSED', 'ECONNRESET', 'EPIPE', 'ETIMEDOUT'];

/** Whether something failed because the connection to a database was lost or not to be had: it may pass by itself. */
export function isConnectionLost(error: unknown): boolean {
  for (let cause: unknown = error; cause instanceof Error; cause = cause.cause) {
    const { code, message } = cause as Error & { code?: string };
    if (
      ENDED.test(code ?? '') ||
      NETWORK.includes(code ?? '') ||
      /connection terminated|client has encountered a connection error|connection ended/i.test(message)
    )
      return true;
  }
  return false;
}
