import type { CatalogueEntry } from '../entry.js';

/** What steps find, apart from the pages of a site. */
export const stepFindings = {
  'account-reaches-beyond': {
    levels: ['warn'],
    meaning: 'The account of the new database may change other databases of its server too.',
    remedy: 'Use an account for this site alone.',
  },
  'address-fixed-elsewhere': {
    levels: ['warn'],
    meaning: 'The configuration fixes an address that is neither the old nor the new one.',
    remedy: 'Add it to `old.also`, or correct the line.',
  },
  'address-in-files': {
    levels: ['note'],
    meaning: 'Text files that are transferred unchanged contain the old address.',
    remedy: 'Name the file in `configure.edits`, or change it after the move.',
  },
  'address-in-statement': {
    levels: ['warn'],
    meaning: 'An old address is in a view, trigger or default value.',
    remedy: 'Change the statement by hand.',
  },
  'address-left-over': {
    levels: ['warn'],
    meaning: 'An old address is still there after the move.',
    remedy: 'Change it by hand, or name the column in `rewrite.leave`.',
  },
  'address-not-in-data': {
    levels: ['warn'],
    meaning: 'The old address is not in the dump.',
    remedy: 'Check `old.address`, and that this is the dump of this site.',
  },
  'address-not-named': {
    levels: ['warn'],
    meaning: 'A host that looks like an earlier or temporary address of the site is in the data.',
    remedy: 'Add it to `old.also`.',
  },
  'address-twin': {
    levels: ['warn'],
    meaning: 'The www twin of the old address is in the data.',
    remedy: 'Add it to `old.also`.',
  },
  'archive-in-web-root': {
    levels: ['warn'],
    meaning: 'An archive of a megabyte or more is in the site.',
    remedy: 'Remove it, or leave it out.',
  },
  'base64-left': {
    levels: ['warn'],
    meaning: 'Old addresses are in Base64 and were left.',
    remedy: 'Rewrite them with `rewrite.open-base64: true`.',
  },
  'certificate-ends-soon': {
    levels: ['warn'],
    meaning: 'A certificate expires within three weeks.',
    remedy: 'Make sure that it is renewed.',
  },
  'certificate-refused': {
    levels: ['warn'],
    meaning: 'Browsers refuse the certificate of one of the sites.',
    remedy: 'Get one for the name, or renew it.',
  },
  'charset-unknown': {
    levels: ['stop'],
    meaning: 'The new server does not know the character set of `new.database.charset`.',
    remedy: 'Name one that it knows.',
  },
  'clock-wrong': {
    levels: ['warn'],
    meaning: 'The clock of the new host or its database is wrong by minutes.',
    remedy: 'Have the host set it.',
  },
  'collation-missing': {
    levels: ['stop', 'note'],
    meaning: 'The dump uses a character set or collation that the new server does not know.',
    remedy: 'Take the dump in compatible form, or replace it in the dump.',
  },
  'configuration-above': {
    levels: ['note'],
    meaning: 'A part of the configuration is one folder above the site; it is taken along to the same place.',
    remedy: 'Make sure that the folder above the new site is its own.',
  },
  'configuration-by-hand': {
    levels: ['warn'],
    meaning: 'A value of the configuration could not be set safely.',
    remedy: 'Set it by hand in the line named.',
  },
  'configuration-computed': {
    levels: ['warn'],
    meaning: 'A value of the configuration is computed when the site runs.',
    remedy: 'Make sure by hand that it is right at the new host.',
  },
  'configuration-copy': {
    levels: ['warn'],
    meaning: 'A copy of the configuration is where visitors can read it as text.',
    remedy: 'Remove it, and use another password.',
  },
  'configuration-differs': {
    levels: ['stop'],
    meaning: 'The new configuration does not say what the sheet says.',
    remedy: 'Correct one of the two.',
  },
  'configuration-elsewhere': {
    levels: ['warn'],
    meaning:
      'Neither the configuration nor a file that it includes says name, user or password of the database.',
    remedy: 'Set it by hand.',
  },
  'configuration-environment': {
    levels: ['note'],
    meaning: 'A value of the configuration comes from the environment.',
    remedy: 'Set the variable at the new host if it is set there; that wins.',
  },
  'configuration-include': {
    levels: ['warn'],
    meaning:
      'A file that the configuration includes was not read: an address, an absolute path, or one that is not there.',
    remedy: 'Check whether it names anything of the old host.',
  },
  'configuration-missing': {
    levels: ['stop'],
    meaning: 'The family’s files are there, its configuration is not.',
    remedy: 'Name the site’s own folder in `old.files`.',
  },
  'configuration-several': {
    levels: ['note'],
    meaning: 'Another configuration in the tree names another database.',
    remedy: 'Make sure that the dump is of the one that the site uses.',
  },
  'configuration-unreadable': {
    levels: ['stop'],
    meaning: 'The configuration cannot be parsed, or is larger than 1 MiB.',
    remedy: 'Repair it.',
  },
  'crate-not-writable': {
    levels: ['stop'],
    meaning: 'Nothing can be written beside the sheet.',
    remedy: 'Give the right, or put the sheet elsewhere.',
  },
  'crate-room-too-small': {
    levels: ['stop'],
    meaning: 'There is not enough room for the crate.',
    remedy: 'Make room, or put the sheet on another disk.',
  },
  'database-credentials': {
    levels: ['stop'],
    meaning: 'The new database refuses the user or the password.',
    remedy: 'Set the password again, and copy it as it is.',
  },
  'database-holds-other-site': {
    levels: ['stop'],
    meaning: 'Another site is under the same prefix in the new database.',
    remedy: 'Use another prefix or database, or allow its removal with `new.database.replace: own`.',
  },
  'database-in-several-requests': {
    levels: ['note'],
    meaning: 'Through a hatch, the tables were read in several requests, each at a moment of its own.',
    remedy: 'If somebody wrote to the site meanwhile, put it into maintenance mode and run `pack --again`.',
  },
  'database-line-open': {
    levels: ['warn'],
    meaning:
      'The line to a database is not protected, or nobody verifies who its server is; the sheet asked for that.',
    remedy: 'Go through the SSH connection of the files, or change the password after the move.',
  },
  'database-missing': {
    levels: ['stop', 'note'],
    meaning: 'The new database is not there, or this user may not open it.',
    remedy: 'Create it and give the user all rights on it.',
  },
  'database-not-asked': {
    levels: ['stop', 'note'],
    meaning: 'The sheet gives no password for the new database.',
    remedy: 'Add `new.database.password`.',
  },
  'database-not-reached': {
    levels: ['stop', 'note'],
    meaning: 'The new database cannot be reached from here.',
    remedy: 'Go over SSH, or have the dump left as a file; or try the credentials in the host’s panel.',
  },
  'database-of-two-moments': {
    levels: ['note'],
    meaning: 'The dump was resumed: its tables come from two snapshots.',
    remedy: 'Run `pack --again` if somebody wrote to the site meanwhile.',
  },
  'database-refuses': {
    levels: ['stop'],
    meaning: 'The new database server refuses for another reason.',
    remedy: 'Ask the host what it means.',
  },
  'database-rights-missing': {
    levels: ['stop'],
    meaning: 'The database user lacks rights that loading and running the site need.',
    remedy: 'Give all rights on the database.',
  },
  'database-room': {
    levels: ['note'],
    meaning: 'Until `tidy` the new database holds the tables that are replaced as well.',
    remedy: 'Compare that with the quota, or keep them in a dump (`new.database.swap: false`).',
  },
  'database-shared': {
    levels: ['note'],
    meaning: 'Tables of something else are in the new database.',
    remedy: 'Nothing needs to be done as long as the prefixes differ.',
  },
  'database-tables-there': {
    levels: ['warn'],
    meaning: 'Tables with the site’s prefix are in the new database already.',
    remedy: 'Dump them first, or choose another prefix.',
  },
  'database-too-old': {
    levels: ['stop'],
    meaning: 'The new database server is older than the site needs.',
    remedy: 'Ask for a later one.',
  },
  'drop-in': {
    levels: ['warn'],
    meaning: 'A file that takes the place of a part of the program is there.',
    remedy: 'Leave it out, and switch its extension on again.',
  },
  'dump-fitted': {
    levels: ['note'],
    meaning: 'Statements of the dump were changed so that the server named takes them.',
    remedy: 'Nothing needs to be done, unless a view or program needs the account that had defined it.',
  },
  'dump-in-web-root': {
    levels: ['warn'],
    meaning: 'A database dump is where visitors can fetch it.',
    remedy: 'Remove it.',
  },
  'dump-not-of-site': {
    levels: ['stop'],
    meaning: 'None of the dump’s tables are those of such a site.',
    remedy: 'Dump the database that the configuration names.',
  },
  'edit-not-found': {
    levels: ['warn'],
    meaning: 'An edit of `configure.edits` finds nothing to change.',
    remedy: 'Correct `file` or `find`.',
  },
  'extension-may-interfere': {
    levels: ['note'],
    meaning: 'An extension for caching, security, redirects or the like is installed.',
    remedy: 'Switch it off for the move.',
  },
  'file-different': {
    levels: ['stop'],
    meaning: 'A file at the new end is not the one of the crate.',
    remedy: 'Deliver again.',
  },
  'file-extra': {
    levels: ['note'],
    meaning: 'A file at the new end is not of the crate.',
    remedy: 'Check whether the new site has written it.',
  },
  'file-missing': {
    levels: ['stop'],
    meaning: 'A file of the crate is missing at the new end.',
    remedy: 'Deliver again.',
  },
  'file-too-large': {
    levels: ['warn'],
    meaning: 'A file is too large to be rewritten as one text.',
    remedy: 'Rewrite a dump on its own; look into others by hand.',
  },
  'files-gone-stay': {
    levels: ['note'],
    meaning: 'Files of an earlier delivery are no longer at the old site, and stay at the new one.',
    remedy: 'Remove them with `deliver --mirror`.',
  },
  'files-left-out-large': {
    levels: ['warn'],
    meaning: 'Files larger than `take.files.larger-than` are not taken.',
    remedy: 'Transfer by hand what the site needs of them.',
  },
  'files-too-many': {
    levels: ['stop'],
    meaning: 'The new place has not enough inodes.',
    remedy: 'Leave caches out, or ask for more.',
  },
  'front-above': {
    levels: ['note', 'warn'],
    meaning:
      'The site’s program is in a folder of its own: visitors come in one folder above, by files that are taken too.',
    remedy: 'Let `new.files` end with the same name, in the new site’s web root.',
  },
  'front-address': {
    levels: ['warn'],
    meaning: 'The old address is that of the program; visitors find the site one level above.',
    remedy: 'Give the address that visitors use as `old.address`.',
  },
  'hatch-used': {
    levels: ['note'],
    meaning: 'An end is reached through a hatch; this says what that gains, and the limits of PHP there.',
    remedy: 'Nothing needs to be done.',
  },
  'hatch-would-help': {
    levels: ['note'],
    meaning: 'Many files are carried one by one over FTP.',
    remedy: 'Where PHP runs at this host, `hatch: true` carries them as a stream.',
  },
  'index-in-the-way': {
    levels: ['warn'],
    meaning: 'A page that servers show before the site’s own index.php is in the web root.',
    remedy: 'Leave it out.',
  },
  'installer-in-web-root': {
    levels: ['warn'],
    meaning: 'A script that installs, unpacks or shows facts about the server is in the web root.',
    remedy: 'Remove it.',
  },
  'keys-fresh': {
    levels: ['note'],
    meaning: 'The keys that sign cookies are new; everybody is logged out.',
    remedy: 'Log in again at the new address.',
  },
  'language-extension-missing': {
    levels: ['stop'],
    meaning: 'The new host’s language lacks an extension that the site needs.',
    remedy: 'Switch it on.',
  },
  'language-memory-small': {
    levels: ['warn'],
    meaning: 'The language may use less than 64 MB of memory.',
    remedy: 'Raise the limit.',
  },
  'language-not-asked': {
    levels: ['warn'],
    meaning: 'The probe did not answer.',
    remedy: 'Check that `new.files` is the folder that `new.reach` serves.',
  },
  'language-not-run': {
    levels: ['stop'],
    meaning: 'The new web server shows PHP files as text.',
    remedy: 'Switch PHP on before anything with a password goes there.',
  },
  'language-too-old': {
    levels: ['stop'],
    meaning: 'The new host’s language is older than the site needs.',
    remedy: 'Choose a later version.',
  },
  'link-leads-outside': {
    levels: ['warn'],
    meaning: 'A symbolic link leads out of the site and is not taken.',
    remedy: 'Create it again at the new host if it is needed.',
  },
  'link-not-made': {
    levels: ['warn'],
    meaning: 'Symbolic links cannot be made over FTP and were left out.',
    remedy: 'Use SFTP.',
  },
  'load-warned': {
    levels: ['warn'],
    meaning: 'The new server warned while the dump was loaded.',
    remedy: 'Check whether the site minds.',
  },
  'log-large': {
    levels: ['note'],
    meaning: 'A log of ten megabytes or more would be transferred.',
    remedy: 'Leave it out.',
  },
  'mail-left': {
    levels: ['note'],
    meaning: 'Mail addresses at the old host were left.',
    remedy: 'Rewrite them with `rewrite.mail: true`.',
  },
  'maintenance-by-hand': {
    levels: ['note'],
    meaning: 'A site of this family keeps its maintenance mode outside of its files.',
    remedy: 'Switch it in the site itself.',
  },
  'maintenance-left': {
    levels: ['warn'],
    meaning: 'The site is in maintenance mode.',
    remedy: 'Remove the file when the update is through.',
  },
  'mode-bits-dropped': {
    levels: ['note'],
    meaning: 'Files of the old site have setuid, setgid or sticky bits, which are not taken.',
    remedy: 'Find out who set them; no site needs them.',
  },
  'move-folder-open': {
    levels: ['warn'],
    meaning: 'Others on this machine can read what was taken from the site.',
    remedy: 'Close the folders that are named.',
  },
  'name-not-readable': {
    levels: ['warn'],
    meaning: 'A file’s name is not UTF-8 and cannot be sent over SFTP; it is not taken.',
    remedy: 'Rename it, or take it in an archive.',
  },
  'name-not-taken': {
    levels: ['warn'],
    meaning:
      'A name cannot be sent to the new end (a line end over FTP, or not UTF-8 over SFTP) and was left out.',
    remedy: 'Rename it, or use another protocol.',
  },
  'name-refused-by-windows': {
    levels: ['note'],
    meaning: 'A name that a host which runs Windows would refuse.',
    remedy: 'Nothing needs to be done where the new host runs another system.',
  },
  'name-too-long': {
    levels: ['warn'],
    meaning: 'A name or path is longer than other file systems take.',
    remedy: 'Shorten it, or leave it out.',
  },
  'names-clash': {
    levels: ['warn'],
    meaning: 'Names differ only in letter case.',
    remedy: 'Rename one, if the new host ignores letter case.',
  },
  'names-lead-elsewhere': {
    levels: ['warn'],
    meaning: 'A host lists names of files that lead out of the folder; they are not taken.',
    remedy: 'Do not trust this host.',
  },
  'network-at-new-end': {
    levels: ['stop'],
    meaning: 'A network of sites is under the new prefix, and the old site is a single one.',
    remedy: 'Import it as one of the network’s sites, or use a prefix or database of its own.',
  },
  'network-of-sites': {
    levels: ['warn', 'note'],
    meaning:
      'The site is a network of several; where its host changes (warn) its tables of sites must be changed too.',
    remedy: 'Set domain and path in them after loading the dump.',
  },
  'new-folder-not-empty': {
    levels: ['warn'],
    meaning: 'Something is in the new folder already.',
    remedy: 'It is kept as keepsake; check that it is the right folder.',
  },
  'new-parent-missing': {
    levels: ['warn'],
    meaning: 'The folders around the new one are not there; a delivery would create them.',
    remedy: 'Check the path; paths of a remote place count from the server’s root.',
  },
  'new-site-there': {
    levels: ['warn'],
    meaning: 'Another site’s configuration is in the new folder.',
    remedy: 'Check that it is the right folder.',
  },
  'new-unreachable': {
    levels: ['warn'],
    meaning: 'The new web server does not answer.',
    remedy: 'Check `new.reach` and the server’s host name.',
  },
  'no-address-found': {
    levels: ['warn'],
    meaning: 'The dump holds rows, and none of them an old address.',
    remedy:
      'Check `old.address` and `old.also`. It is right only for a site that stores no address of its own.',
  },
  'numbers-begin-lower': {
    levels: ['warn'],
    meaning: 'The next automatic number of a table is lower than at the old server.',
    remedy: 'Set its `AUTO_INCREMENT`.',
  },
  'old-home-broken': {
    levels: ['stop'],
    meaning: 'The old home page answers with an error.',
    remedy: 'Check `old.address`.',
  },
  'old-in-maintenance': {
    levels: ['warn'],
    meaning: 'The old site is in maintenance mode.',
    remedy: 'End it before packing.',
  },
  'old-locked': {
    levels: ['note'],
    meaning: 'A page of the old site is locked.',
    remedy: 'Look at the new one yourself.',
  },
  'old-login-missing': {
    levels: ['note'],
    meaning: 'The login page is not where it usually is.',
    remedy: 'Note where it is.',
  },
  'old-not-indexed': {
    levels: ['note'],
    meaning: 'Search engines are asked not to list the old home page.',
    remedy: 'Set `configure.search-engines: show` if the new site is to be found.',
  },
  'old-not-well': {
    levels: ['stop'],
    meaning: 'The old site shows an installation page or a database error.',
    remedy: 'Repair it first.',
  },
  'old-redirect-loop': {
    levels: ['warn'],
    meaning: 'A page of the old site leads visitors on again and again.',
    remedy: 'Check `old.address`.',
  },
  'old-scheme-differs': {
    levels: ['warn'],
    meaning: 'The old site sends visitors to the other scheme.',
    remedy: 'Write `old.address` with it.',
  },
  'old-sent-elsewhere': {
    levels: ['warn'],
    meaning: 'The old address sends visitors to another host.',
    remedy: 'Write that as `old.address`, and this one under `old.also`.',
  },
  'old-unreachable': {
    levels: ['warn'],
    meaning: 'The old site does not answer.',
    remedy: 'Check `old.address`.',
  },
  'packet-too-small': {
    levels: ['stop'],
    meaning: 'The dump has a statement longer than the new server takes.',
    remedy: 'Raise `max_allowed_packet`, or dump with shorter statements.',
  },
  'panel-limit': {
    levels: ['warn'],
    meaning: 'The finished dump will probably be larger than the new host accepts as an upload.',
    remedy: 'Set `new.database.parts` to a size below the limit.',
  },
  'part-too-large': {
    levels: ['warn'],
    meaning: 'One row alone makes a piece of the dump larger than `new.database.parts`.',
    remedy: 'Ask the host to load it, or to raise the limit.',
  },
  'password-in-clear': {
    levels: ['warn'],
    meaning: 'Plain FTP sends the password and every file unencrypted.',
    remedy: 'Use `ftps://` or `sftp://`.',
  },
  'place-not-renamable': {
    levels: ['stop'],
    meaning: 'What is written at the new place cannot be renamed.',
    remedy: 'Give the right, or name a folder on another file system.',
  },
  'place-not-writable': {
    levels: ['stop'],
    meaning: 'Nothing can be written where the new site is to go.',
    remedy: 'Give the right, or name another place.',
  },
  'place-without-links': {
    levels: ['warn'],
    meaning: 'The site has symbolic links, and none can be created at the new place.',
    remedy: 'Make copies of what they lead to.',
  },
  'prefix-differs': {
    levels: ['stop'],
    meaning: 'The tables have another prefix than the configuration.',
    remedy: 'Dump the right database, or correct the prefix.',
  },
  'prefix-not-found': {
    levels: ['warn'],
    meaning: 'No table of the dump begins with the prefix that is to be changed.',
    remedy: 'Give the prefix of the tables as `--prefix-from`.',
  },
  'prefix-several': {
    levels: ['stop'],
    meaning: 'Several sites are in the dump, and no configuration says which is moved.',
    remedy: 'Give old.files, or name the tables in take.database.tables.only.',
  },
  'prefix-shared': {
    levels: ['stop'],
    meaning: 'Tables of another kind of site are under the same prefix.',
    remedy: 'Leave them out by name, or give the sites prefixes of their own.',
  },
  'program-missing': {
    levels: ['stop'],
    meaning: 'A view or trigger of the old database is missing at the new server.',
    remedy: 'Give the rights, then deliver again.',
  },
  'program-within': {
    levels: ['stop'],
    meaning: 'The folder is the web root of a site whose program is in one of its folders.',
    remedy: 'Name that folder as `old.files`; what loads it from the web root is taken too.',
  },
  'programs-denied': {
    levels: ['warn'],
    meaning: 'The new database server lets only its administrators make triggers and functions (error 1419).',
    remedy: 'Ask the host to allow them, or to make those that the site has.',
  },
  'programs-not-made': {
    levels: ['warn'],
    meaning: 'Views, triggers or functions of the dump could not be made at the new server.',
    remedy: 'Make them by hand, or ask the host to.',
  },
  'programs-not-taken': {
    levels: ['warn'],
    meaning: 'Views or programs of the old database work with more than its own tables; they are not taken.',
    remedy: 'Make those that the site needs at the new server by hand.',
  },
  'proxy-in-front': {
    levels: ['warn'],
    meaning: 'A cache or proxy answers in front of the old server.',
    remedy: 'Make the change there too.',
  },
  'read-back-sample': {
    levels: ['note'],
    meaning: 'Only some of the transferred files were read back and compared.',
    remedy: 'Run `check` when there is time.',
  },
  'redirects-not-needed': {
    levels: ['note'],
    meaning: 'The address stays the same.',
    remedy: 'Nothing needs to be done.',
  },
  'remains-by-hand': {
    levels: ['note'],
    meaning: 'What a move has made at the new end and `undo` does not remove.',
    remedy: 'Remove it by hand in the host’s panel if nothing needs it.',
  },
  'repository-in-web-root': {
    levels: ['warn'],
    meaning: 'A version control folder is where visitors can fetch it.',
    remedy: 'Leave it out.',
  },
  'reserved-tables-there': {
    levels: ['stop'],
    meaning: 'Tables with names that Able Porter needs for itself are in the new database.',
    remedy: 'Tidy the move that made them, or rename or drop them.',
  },
  'robots-shut-out': {
    levels: ['note'],
    meaning: 'Search engines are asked to stay away from the whole site.',
    remedy: 'Remove the line after the cutover.',
  },
  'room-too-small': {
    levels: ['stop'],
    meaning: 'There is not enough room for the new site.',
    remedy: 'Make room.',
  },
  'root-not-renamable': {
    levels: ['note'],
    meaning:
      'The web root itself cannot be renamed; files are put in place one by one, under a maintenance page.',
    remedy: 'Nothing needs to be done.',
  },
  'row-changed-meanwhile': {
    levels: ['warn'],
    meaning:
      'Rows of a live database were changed by somebody else between reading and writing; they were left.',
    remedy: 'Put the site into maintenance mode and rewrite again.',
  },
  'row-refused': {
    levels: ['warn'],
    meaning:
      'The server refused changed rows of a live database (too long for the column, or a key twice); they were left.',
    remedy: 'Make the column longer, or change the row by hand.',
  },
  'row-too-long': {
    levels: ['warn'],
    meaning: 'A single row is longer than the named server accepts in one statement.',
    remedy: 'Raise `max_allowed_packet` there.',
  },
  'scheme-weaker': {
    levels: ['warn'],
    meaning: 'The new site is served by http, the old one by https.',
    remedy: 'Get a certificate.',
  },
  'server-file-host': {
    levels: ['warn'],
    meaning: 'A rule in `.htaccess` or `web.config` names the old host.',
    remedy: 'Change the rule by hand.',
  },
  'server-file-path': {
    levels: ['note'],
    meaning: 'A path on the old server is in `php.ini` or `.user.ini`.',
    remedy: 'Check whether it is there, or name it in `rewrite.pairs`.',
  },
  'server-file-php': {
    levels: ['note'],
    meaning: 'A setting of the language is in `.htaccess`.',
    remedy: 'Remove it if the new site answers with error 500.',
  },
  'server-file-prepends': {
    levels: ['warn'],
    meaning: 'A file is prepended to every page.',
    remedy: 'Remove the line for the move.',
  },
  'server-path-not-named': {
    levels: ['warn'],
    meaning: 'A folder on the old server is named in data or files and no pair moves it.',
    remedy: 'Add it to `rewrite.pairs`.',
  },
  'set-up-by-hand': {
    levels: ['note'],
    meaning: 'Somebody changed a server file at the new end; it is left as it is.',
    remedy: 'See what setting up would make of it with `deliver --dry-run`.',
  },
  'site-nested': {
    levels: ['note'],
    meaning: 'Another site is in the tree of this one.',
    remedy: 'Leave its folder out.',
  },
  'sites-several': {
    levels: ['note'],
    meaning: 'The tree holds several sites.',
    remedy: 'Leave the others out if they are not to come along.',
  },
  'special-file': {
    levels: ['warn'],
    meaning: 'Sockets, named pipes or devices in the old site’s folder are not taken.',
    remedy: 'Nothing needs to be done for a site.',
  },
  'statements-left-out': {
    levels: ['note', 'warn'],
    meaning: 'Statements of the dump do more than make and fill the site’s tables; they were left out.',
    remedy: 'Look at where the dump comes from; do by hand what the site needs of them.',
  },
  'table-changed-since': {
    levels: ['note'],
    meaning: 'The site has written to tables since they were delivered.',
    remedy: 'Nothing needs to be done if the new site has been opened.',
  },
  'table-crashed': {
    levels: ['stop'],
    meaning: 'The old server cannot open a table.',
    remedy: 'Repair it there.',
  },
  'table-different': {
    levels: ['stop'],
    meaning: 'A table of the finished dump does not hold what was taken.',
    remedy: 'Rewrite and deliver again.',
  },
  'table-extra': {
    levels: ['note'],
    meaning: 'More tables are under the prefix than were delivered.',
    remedy: 'Check whether the new site made them.',
  },
  'table-missing': {
    levels: ['stop'],
    meaning: 'A table is not in the finished dump.',
    remedy: 'Rewrite and deliver again.',
  },
  'table-without-key': {
    levels: ['note'],
    meaning: 'A table of a live database has no key; rows were found by their old value.',
    remedy: 'Expect `undo` to restore a value wherever the new one is.',
  },
  'tables-not-swapped': {
    levels: ['warn'],
    meaning: 'Tables are loaded in their place, since they cannot be made ready beside it.',
    remedy: 'Expect the maintenance page for as long as the load takes.',
  },
  'tables-not-taken': {
    levels: ['note'],
    meaning: 'Tables that are not the site’s own were left out.',
    remedy: 'Name in take.database.tables.also what the site uses of them.',
  },
  'tables-without-transactions': {
    levels: ['warn', 'note'],
    meaning:
      'Tables without transactions were locked while they were read (note), or read without a lock (warn).',
    remedy: 'Put the new site into maintenance mode before the last delivery.',
  },
  'tidy-not-switched': {
    levels: ['stop'],
    meaning: 'A cutover is planned, and nobody has said that the DNS was switched.',
    remedy: 'Say so with `cutover switch --by-hand`, or tidy with `--not-switched`.',
  },
  'tidy-remains': {
    levels: ['stop'],
    meaning: 'Something of the move is still there after it was removed.',
    remedy: 'Remove it by hand, then tidy again.',
  },
  'tidy-unchecked': {
    levels: ['stop'],
    meaning: 'The new site was not checked, or the check stopped.',
    remedy: 'Check it and put right what is found, or tidy with `--unchecked`.',
  },
  'trusted-hosts': {
    levels: ['warn'],
    meaning: 'The site answers only to hosts that it trusts, and the new one is not among them.',
    remedy: 'Add its pattern.',
  },
  'value-damaged': {
    levels: ['warn'],
    meaning: 'A value looks serialized and cannot be read; it was left as it is.',
    remedy:
      '`rewrite.mend: true` repairs those whose lengths follow without doubt; save the others again at the old site.',
  },
  'value-mended': {
    levels: ['note'],
    meaning: 'The lengths of damaged serialized values were corrected.',
    remedy: 'Look at the settings kept there.',
  },
  'value-not-stored-whole': {
    levels: ['stop'],
    meaning: 'The new server truncated or changed values while it stored them.',
    remedy: 'Compare type and character set of the column.',
  },
  'waiting-fetchable': {
    levels: ['stop'],
    meaning: 'The web server gives visitors what waits for the new site, or is kept for `undo`.',
    remedy: 'Let the web server refuse names that begin with a dot.',
  },
  'waiting-not-asked': {
    levels: ['note'],
    meaning: 'Whether visitors can fetch what waits and is kept in a web root was not looked at.',
    remedy: 'Give `new.reach`.',
  },
  'wish-not-carried-out': {
    levels: ['warn'],
    meaning: 'The sheet asks for something that cannot be set for this kind of site.',
    remedy: 'Set it by hand in the new site.',
  },
  'written-since': {
    levels: ['stop', 'warn'],
    meaning: 'The new site has written rows or files since the last delivery that this one would replace.',
    remedy: 'Deliver with `--replace-changes`, which keeps them, if they are not needed.',
  },
} as const satisfies Readonly<Record<string, CatalogueEntry>>;
