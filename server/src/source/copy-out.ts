import pg from 'pg';
import { to as copyTo, type CopyToStreamQuery } from 'pg-copy-streams';

/** What the stream and its connection know of each other, and their types do not say. */
interface Submitted {
  submit(connection: ExtendedConnection): void;
  _attach(): void;
  connection?: ExtendedConnection;
  handleError(error: Error, connection: ExtendedConnection): void;
}

interface ExtendedConnection {
  parse(message: { text: string }): void;
  bind(message: object): void;
  execute(message: object): void;
  flush(): void;
  sync(): void;
  once(event: 'bindComplete', listener: () => void): void;
}

/**
 * COPY out of a database by the extended protocol: one statement is one statement, whatever its text holds.
 * The stream reads the connection's bytes itself from the first row on, so the answers to parse and bind come before.
 */
export function copyOut(client: pg.Client, sql: string): CopyToStreamQuery {
  const stream = copyTo(sql);
  const inner = stream as unknown as Submitted;
  let isBound = false;
  const handleError = inner.handleError.bind(stream);
  inner.submit = (connection) => {
    inner.connection = connection;
    connection.once('bindComplete', () => {
      isBound = true;
      inner._attach();
      connection.execute({});
      connection.sync();
    });
    connection.parse({ text: sql });
    connection.bind({});
    connection.flush();
  };
  inner.handleError = (error, connection) => {
    // Until a sync the server leaves out all that follows an error.
    if (!isBound) connection.sync();
    handleError(error, connection);
  };
  return client.query(stream);
}
