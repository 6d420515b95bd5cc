import { type Finding, type FindingCode, finding, type LevelOf } from '../../findings/findings.js';

/** A kind of thing in a tree that does not belong to a site at rest, or will trouble its move. */
interface KindOf<Code extends FindingCode> {
  readonly code: Code;
  readonly level: LevelOf<Code>;
  readonly pattern: RegExp;
  readonly what: string;
  readonly remedy: string;
  /** Only at least this large, in bytes. */
  readonly from?: number;
  /** Only in a site of a known family, whose pages a program makes. */
  readonly ofFamily?: true;
}

type Kind = { [Code in FindingCode]: KindOf<Code> }[FindingCode];

/** Recognised by what they are and where they are, never by who made them. */
const kinds: readonly Kind[] = [
  {
    code: 'dump-in-web-root',
    level: 'warn',
    // Extensions bring such files of their own, to make their tables.
    pattern:
      /^(?!(?:administrator|components|plugins|modules|wp-content\/(?:plugins|themes))\/)(?:[^/]+\/){0,3}[^/]+\.sql(?:\.(?:gz|bz2|zip|xz))?$/i,
    from: 10_000,
    what: 'a database dump is where visitors can fetch it',
    remedy: 'Remove it from the web root; it holds every password and address of the site',
  },
  {
    code: 'archive-in-web-root',
    level: 'warn',
    pattern: /\.(?:zip|tar|tgz|tar\.(?:gz|bz2|xz)|7z|rar|bak)$/i,
    from: 1_000_000,
    what: 'an archive is in the site',
    remedy: 'If it is a backup, remove it or leave it out with take.files.without',
  },
  {
    code: 'installer-in-web-root',
    level: 'warn',
    pattern:
      /^(?:[\w.-]*(?:installer|install-backup|unzip|extract|restore)[\w.-]*\.php|(?:php)?info\.php|test\.php)$/i,
    what: 'a script that installs, unpacks or shows facts about the server is in the web root',
    remedy: 'Remove it; anybody can call it',
  },
  {
    code: 'maintenance-left',
    level: 'warn',
    pattern: /^\.maintenance$/,
    what: 'the site is in maintenance mode, or an update was interrupted',
    remedy: 'Remove the file when the update is finished; the new site would show the maintenance page',
  },
  {
    code: 'drop-in',
    level: 'warn',
    pattern: /^wp-content\/(?:object-cache|advanced-cache|db|db-error|sunrise)\.php$/,
    what: 'a file that takes the place of a part of the program is there; it often needs a service of the old host',
    remedy: 'Leave it out with take.files.without, and switch its extension on again at the new host',
  },
  {
    code: 'extension-may-interfere',
    level: 'note',
    pattern:
      /^(?:wp-content\/plugins|plugins\/system|modules(?:\/contrib)?|extensions)\/[^/]*(?:cache|security|firewall|redirect|cdn|ssl|maintenance|optimi[sz])[^/]*$/i,
    what: 'an extension whose kind often interferes with a move is installed',
    remedy: 'Switch it off for the move, and on again when the new site is checked',
  },
  {
    code: 'repository-in-web-root',
    level: 'warn',
    pattern: /^(?:[^/]+\/){0,2}\.(?:git|svn|hg)\/(?:HEAD|entries|wc\.db|requires)$/,
    what: 'a version control folder is where visitors can fetch it',
    remedy: 'Leave it out with take.files.without; its history may hold every password that ever was',
  },
  {
    code: 'log-large',
    level: 'note',
    pattern: /(?:^|\/)(?:error_log|[\w.-]*\.log)$/i,
    from: 10_000_000,
    what: 'a log of ten megabytes or more would be moved with the site',
    remedy: 'Leave it out with take.files.without',
  },
  {
    code: 'index-in-the-way',
    level: 'warn',
    pattern: /^(?:index|default|home)\.html?$/i,
    ofFamily: true,
    what: 'a page that many servers show before the site’s own index.php is in the web root',
    remedy: 'If the site’s own home page is to be seen, leave it out with take.files.without',
  },
  {
    code: 'site-nested',
    level: 'note',
    pattern: /^.+\/(?:wp-config\.php|configuration\.php|LocalSettings\.php)$/,
    what: 'another site is inside this one',
    remedy: 'Leave its folder out with take.files.without, unless it is to move as well',
  },
];

const shownOfEach = 3;

/** Collects stray files of a tree, to be reported as one finding a kind. */
export class StrayFiles {
  private readonly found = new Map<Kind, string[]>();
  private readonly ofFamily: boolean;

  /** @param ofFamily whether the tree is that of a known family */
  constructor(ofFamily: boolean) {
    this.ofFamily = ofFamily;
  }

  /** Looks at a path of the tree. Files of tests and examples below the program's own folders are skipped. */
  look(path: string, bytes: number): void {
    if (/(?:^|\/)(?:vendor|node_modules|core|libraries|wp-includes|wp-admin)\//.test(path)) return;
    for (const kind of kinds) {
      if (bytes < (kind.from ?? 0) || (kind.ofFamily && !this.ofFamily) || !kind.pattern.test(path)) continue;
      this.found.set(kind, [...(this.found.get(kind) ?? []), path]);
    }
  }

  findings(root: string): Finding[] {
    return [...this.found].map(([{ code, level, what, remedy }, paths]) =>
      finding({
        level,
        code,
        place: `${root}/${paths[0]}`,
        what: `${what[0]!.toUpperCase()}${what.slice(1)}: ${paths.slice(0, shownOfEach).join(', ')}${paths.length > shownOfEach ? ` and ${paths.length - shownOfEach} more` : ''}`,
        remedy,
      }),
    );
  }
}
