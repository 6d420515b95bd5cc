import type { PrefixedData } from '../../rewrite/terms/prefix.js';

/** What a family knows of the columns of its tables. It is separate from the families because a dump is rewritten without loading them. */
export interface FamilyColumns {
  /** How the table prefix is written into data. */
  readonly prefixed: readonly PrefixedData[];
  /** `table.column` patterns of values that must stay as they are. */
  readonly leave: readonly string[];
  /** `table.column` patterns of values that are a bare host. */
  readonly hosts: readonly string[];
  /** `table.column` patterns of values that may be compressed as a whole, as PHP's gzdeflate does. */
  readonly compressed: readonly string[];
}

const ownKeys =
  /^(?:\d+_)?(?:capabilities|user_level|user-settings|user-settings-time|dashboard_quick_press_last_post_id|user_roles|media_library_mode|persisted_preferences)$/;

export const wordpressColumns: FamilyColumns = {
  prefixed: [
    { table: 'usermeta', column: 'meta_key', carries: rest => ownKeys.test(rest) },
    { table: 'options', column: 'option_name', carries: rest => rest === 'user_roles' },
  ],
  leave: ['*posts.guid'],
  // The tables of a network say which site answers at which host.
  hosts: ['*blogs.domain', '*site.domain'],
  compressed: [],
};

/** https://www.mediawiki.org/wiki/Manual:$wgCompressRevisions */
const mediawikiColumns: FamilyColumns = {
  prefixed: [],
  leave: [],
  hosts: [],
  compressed: ['*text.old_text'],
};

const byFamily: Readonly<Record<string, FamilyColumns>> = {
  wordpress: wordpressColumns,
  mediawiki: mediawikiColumns,
};

/** Of a family; of one whose tables hold nothing of the kind, nothing. */
export function columnsOf(family: string): FamilyColumns {
  return byFamily[family] ?? { prefixed: [], leave: [], hosts: [], compressed: [] };
}

/** Of all families together: their tables are distinguished by their names. */
export const allColumns: readonly FamilyColumns[] = Object.values(byFamily);
