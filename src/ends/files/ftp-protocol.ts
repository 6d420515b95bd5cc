import { type FtpLogin, FtpSession } from '../ftp/session.js';
import { authorityOf, type SheetLogin } from '../ssh/login.js';
import { FtpFiles } from './ftp.js';
import { accountName, type FilesProtocol } from './protocol.js';

/** FTP (RFC 959) and FTP over TLS (RFC 4217). */
export const ftpProtocol: FilesProtocol = {
  schemes: ['ftps', 'ftp'],
  example: 'ftps://user@host/htdocs',
  takesKey: false,
  rootIsFolder: true,
  account({ scheme, authority }, login, { certificates }) {
    const session = new FtpSession(ftpLogin(authority, login, scheme === 'ftps'), certificates);
    return {
      name: accountName(scheme, session.login, 21),
      isLocal: false,
      inClear: scheme === 'ftp',
      open: (path, place) => new FtpFiles(session, place, path),
      landing: () => session.do(client => client.pwd()),
      limitConnections: most => session.keepTo(most),
      onWaiting: report => {
        session.report = report;
      },
      close: () => session.close(),
    };
  },
};

function ftpLogin(authority: string, sheet: SheetLogin, tls: boolean): FtpLogin {
  const { user, password, host, port } = authorityOf(authority);
  return {
    host,
    port: port ?? 21,
    user: user ?? 'anonymous',
    password: sheet.password ?? password ?? '',
    // On port 990 the connection begins with TLS.
    tls: !tls ? 'none' : port === 990 ? 'implicit' : 'explicit',
    certificate: sheet['host-key'],
  };
}
