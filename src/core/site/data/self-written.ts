import { globPattern } from '../../rewrite/terms/globs.js';

/** Rows of a table that a site writes all day, whoever works on it: those whose value of a column is like one of the patterns. */
export interface SelfWrittenRows {
  /** Without its prefix. */
  readonly table: string;
  readonly column: string;
  readonly like: readonly string[];
  /** Only where another column is one of these: what a program writes itself when it is first used. */
  readonly and?: { readonly column: string; readonly is: readonly string[] };
}

/** What a family's sites write without anybody's work: sessions, caches, counters, locks, logs. */
interface SelfWritten {
  /** Globs of tables, without their prefix. */
  readonly tables: readonly string[];
  readonly rows: readonly SelfWrittenRows[];
}

/** What any site keeps in tables of such names. */
const anySite: readonly string[] = [
  'cache',
  'cache_*',
  '*_cache',
  '*cache_*',
  'session',
  'sessions',
  '*_session',
  '*_sessions',
  '*_log',
  '*_logs',
  'log',
  'logs',
  'watchdog',
  '*_stats',
  '*statistics*',
  '*_hits',
  '*_visits',
  '*_visitors',
  '*_counter',
  '*_views',
  '*_queue',
  '*_lock',
  '*_locks',
  '*_jobs',
];

const byFamily: Readonly<Record<string, SelfWritten>> = {
  wordpress: {
    tables: ['*actionscheduler_*', '*_transients'],
    rows: [
      {
        table: 'options',
        column: 'option_name',
        like: [
          '_transient_*',
          '_site_transient_*',
          '_wp_session_*',
          'cron',
          'rewrite_rules',
          // The tree of a taxonomy's terms (_get_term_hierarchy).
          '*_children',
          '*_lock',
          '*.lock',
          'recovery_keys',
          'recently_activated',
          'fresh_site',
          'https_detection_errors',
          'can_compress_scripts',
          'finished_updating_comment_type',
          'action_scheduler_*',
          '*_cache',
          '*_last_run',
        ],
      },
      {
        table: 'options',
        column: 'option_name',
        like: ['widget_*', 'theme_mods_*', 'sidebars_widgets'],
        and: {
          column: 'option_value',
          is: [
            'a:1:{s:12:"_multiwidget";i:1;}',
            'a:2:{i:1;a:0:{}s:12:"_multiwidget";i:1;}',
            'a:1:{s:18:"custom_css_post_id";i:-1;}',
            'a:0:{}',
          ],
        },
      },
      {
        table: 'options',
        column: 'option_name',
        like: [
          'nonce_key',
          'nonce_salt',
          'user_count',
          'wp_calendar_block_has_published_posts',
          'auto_core_update_*',
          'db_upgraded',
        ],
      },
      { table: 'sitemeta', column: 'meta_key', like: ['_site_transient_*', '*_lock'] },
      {
        table: 'usermeta',
        column: 'meta_key',
        like: [
          'session_tokens',
          '*user-settings-time',
          '*dashboard_quick_press_last_post_id',
          'community-events-location',
          '*last_login*',
          '*last_active*',
        ],
      },
      {
        table: 'postmeta',
        column: 'meta_key',
        like: ['_edit_lock', '_encloseme', '_pingme', '_oembed_*', '*views_count', '*_views'],
      },
      { table: 'posts', column: 'post_status', like: ['auto-draft'] },
      { table: 'posts', column: 'post_type', like: ['oembed_cache'] },
    ],
  },
  joomla: { tables: ['session', 'action_logs', '*finder_*', 'messages_cfg'], rows: [] },
  drupal: {
    tables: [
      'cache*',
      'sessions',
      'watchdog',
      'semaphore',
      'flood',
      'history',
      'key_value_expire',
      'batch',
      'queue',
      '*search_index*',
      '*search_total*',
    ],
    rows: [{ table: 'key_value', column: 'collection', like: ['state'] }],
  },
  mediawiki: {
    tables: [
      'objectcache',
      'l10n_cache',
      'job',
      'querycache*',
      'module_deps',
      'site_stats',
      'searchindex',
      'user_newtalk',
    ],
    rows: [],
  },
};

/** What a site of a family writes by itself; of a family that is not known, what any site does. */
function selfWrittenBy(family: string): SelfWritten {
  const own = byFamily[family];
  return { tables: [...anySite, ...(own?.tables ?? [])], rows: own?.rows ?? [] };
}

/** Distinguishes what a site writes by itself from what somebody has made. */
export class SelfWrittenData {
  private readonly prefix: string;
  private readonly tables: readonly RegExp[];
  private readonly rows: readonly {
    readonly table: string;
    readonly column: string;
    readonly like: readonly RegExp[];
    readonly and?: SelfWrittenRows['and'];
  }[];

  constructor(family: string, prefix: string) {
    const { tables, rows } = selfWrittenBy(family);
    this.prefix = prefix;
    this.tables = tables.map(globPattern);
    this.rows = rows.map(one => ({ ...one, like: one.like.map(globPattern) }));
  }

  /** Whether all of a table is of that kind. */
  isTable(table: string): boolean {
    const rest = this.rest(table);
    return rest !== undefined && this.tables.some(pattern => pattern.test(rest));
  }

  /** Whether a row is. @param cell gives the text of one of its columns */
  isRow(table: string, cell: (column: string) => string | undefined): boolean {
    const rest = this.rest(table);
    return this.rows.some(one => {
      // Of a site of a network its number comes first.
      if (rest !== one.table && rest?.replace(/^\d+_/, '') !== one.table) return false;
      const value = cell(one.column);
      if (value === undefined || !one.like.some(pattern => pattern.test(value))) return false;
      return one.and === undefined || one.and.is.includes(cell(one.and.column) ?? '');
    });
  }

  /** Whether some of a table's rows are. */
  hasRows(table: string): boolean {
    const rest = this.rest(table)?.replace(/^\d+_/, '');
    return this.rows.some(one => one.table === rest);
  }

  private rest(table: string): string | undefined {
    return table.startsWith(this.prefix) ? table.slice(this.prefix.length) : undefined;
  }
}
