import { loginFor } from '../ssh/login.js';
import { call } from '../ssh/requests.js';
import { SshSession } from '../ssh/session.js';
import { accountName, type FilesProtocol } from './protocol.js';
import { SftpFiles } from './sftp.js';

/** SFTP over SSH (draft-ietf-secsh-filexfer-02, the version that servers speak). */
export const sftpProtocol: FilesProtocol = {
  schemes: ['sftp'],
  example: 'sftp://user@host/home/user/htdocs',
  takesKey: true,
  rootIsFolder: false,
  account({ authority }, login, { hostKeys }) {
    const session = new SshSession(loginFor(authority, login), hostKeys);
    return {
      name: accountName('sftp', session.login, 22),
      isLocal: false,
      inClear: false,
      ssh: session,
      open: (path, place) => new SftpFiles(session, place, path),
      landing: () => session.files(sftp => call<string>(done => sftp.realpath('.', done))),
      connectAhead: () => session.connectAhead(),
      onWaiting: report => {
        session.report = report;
      },
      close: () => session.close(),
    };
  },
};
