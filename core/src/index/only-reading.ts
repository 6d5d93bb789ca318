/** Something of a query that does more than read, with its place: a byte offset of the parser. */
export interface Effect {
  readonly kind: 'statement' | 'call';
  readonly location: number;
  readonly message: string;
  readonly hint: string;
}

const ONLY_READS = 'queries only read; loads do the writing';

/** Statements that change rows, as the parser's nodes are called. */
const WRITES: Readonly<Record<string, string>> = {
  InsertStmt: 'insert',
  UpdateStmt: 'update',
  DeleteStmt: 'delete',
  MergeStmt: 'merge',
};

/** Functions of PostgreSQL that do something, or run SQL that nobody reads before. */
const WITH_EFFECTS =
  /^(nextval|setval|lastval|currval|set_config|setseed|pg_(try_)?advisory_.*|pg_notify|lo_.*|dblink.*|(query|cursor|table|schema|database)_to_xml(schema|_and_xmlschema)?|ts_stat|pg_sleep.*|pg_(terminate|cancel)_backend|pg_(reload_conf|rotate_logfile.*|promote|switch_wal|create_restore_point|export_snapshot|backup_.*|start_backup|stop_backup)|pg_(read|ls|stat)_.*(file|dir).*|pg_file_.*|pg_logical_.*|pg_(create|drop|copy|advance)_(physical_|logical_)?replication_slot|pg_replication_.*|pg_stat_reset.*|pg_wal_replay_.*|pg_import_system_collations|pg_extension_config_dump|binary_upgrade_.*|pg_current_xact_id|txid_current)$/;

/**
 * What a node does besides reading; called for each node of a query by the one walk over it.
 * @param key the field that holds the node: the name of its kind, or a clause's
 */
export function effectOf(key: string, value: object): Effect | undefined {
  const location = (value as { location?: number }).location ?? 0;
  if (Object.hasOwn(WRITES, key)) {
    const { relation } = value as { relation?: { location?: number } };
    const place = relation?.location ?? location;
    return {
      kind: 'statement',
      location: place,
      message: `${WRITES[key]!} is not allowed in a query`,
      hint: ONLY_READS,
    };
  }
  switch (key) {
    case 'intoClause':
      return {
        kind: 'statement',
        location: (value as { rel?: { location?: number } }).rel?.location ?? 0,
        message: 'select into is not allowed here',
        hint: 'the file name determines the table',
      };
    case 'LockingClause': {
      const [first] =
        (value as { lockedRels?: readonly { readonly RangeVar?: { location?: number } }[] }).lockedRels ?? [];
      return {
        kind: 'statement',
        location: first?.RangeVar?.location ?? 0,
        message: 'a query cannot lock rows',
        hint: 'remove for update or for share',
      };
    }
    case 'ParamRef':
      return {
        kind: 'statement',
        location,
        message: `$${(value as { number?: number }).number ?? 0} has no value here`,
        hint: "write current_setting('param.NAME')",
      };
    default:
      return undefined;
  }
}

/** What calling a function does, by its name's last part, where it is one of PostgreSQL's. */
export function effectOfCall(name: string, location: number): Effect | undefined {
  return WITH_EFFECTS.test(name)
    ? { kind: 'call', location, message: `${name}() does more than read`, hint: ONLY_READS }
    : undefined;
}
