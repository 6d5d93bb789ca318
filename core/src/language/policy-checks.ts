export type PolicyCheckName =
  | 'keys_are_known'
  | 'one_row_a_key'
  | 'one_event_an_instant'
  | 'versions_do_not_overlap'
  | 'key_map_is_complete'
  | 'look_ups_keep_rows';
