/** What a load does with the rows of its query. */
export type LoadPolicy = 'view' | 'rebuild' | 'append' | 'merge' | 'history' | 'dated';
