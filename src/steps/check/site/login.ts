import { formatAddress } from '../../../core/address/address.js';
import { type Finding, finding } from '../../../core/findings/findings.js';
import { cookiesOf } from '../../../core/pages/compare/headers.js';
import { type Page, type PageForm, readPage } from '../../../core/pages/read/page.js';
import { programMessagesIn } from '../../../core/pages/read/program-messages.js';
import type { SeenPage, WebSite } from '../../../ends/http/web-site.js';
import type { StepRun } from '../../move/step.js';
import type { BothSites } from './both-sites.js';

/** How logging in went. The password is in none of it. */
interface LoginOutcome {
  readonly isIn: boolean;
  /** What was seen instead, or of the administration's front page. */
  readonly said: string;
  readonly administration: SeenPage | undefined;
}

/**
 * Logs in at both sites through their login forms, looks at the front page of the administration, and logs out again.
 * Only where nobody else can read the password.
 */
export async function loginFindings(run: StepRun, sites: BothSites): Promise<Finding[]> {
  const { login } = run.move.sheet.check;
  const { family, address } = sites;
  if (!login) return [];
  const place = `${address}/${family.loginPage ?? ''}`;
  const notTried = (what: string, remedy: string) => [
    finding({ level: 'note', code: 'login-not-tried', place, what, remedy }),
  ];
  if (family.loginPage === undefined || family.web?.administration === undefined)
    return notTried(
      'Nobody was logged in: the family of the site has no login page that is known',
      'Log in yourself',
    );
  if (!sites.new.keepsSecrets)
    return notTried(
      'Nobody was logged in: the password would be sent where others can read it',
      'Give new.reach with https, and new.certificate with the fingerprint of its certificate',
    );
  const { administrator } = run.move.sheet.configure;
  const changed = administrator?.login === login.user ? administrator.password : undefined;
  const [old, next] = await Promise.all([
    sites.old.keepsSecrets ? logIn(run, sites, sites.old, login) : undefined,
    logIn(run, sites, sites.new, { ...login, password: changed ?? login.password }),
  ]);
  if (!next.isIn && old && !old.isIn)
    return notTried(`Neither site lets ${login.user} log in: ${old.said}`, 'Check check.login');
  if (!next.isIn)
    return [
      finding({
        level: 'stop',
        code: 'login-refused',
        place,
        what: `${login.user} cannot log in to the new site: ${next.said}`,
        remedy:
          'Check the site’s address, its cookie domain and path, and whether a security extension has moved or closed the login page',
      }),
    ];
  const page = next.administration;
  const [message] = page ? programMessagesIn(page.html) : [];
  if (page && page.status < 400 && !message) return [];
  return [
    finding({
      level: 'stop',
      code: 'administration-broken',
      place: address + family.web.administration,
      what: `The administration of the new site ${message ? `shows “${message.text}”` : `answers ${page?.status ?? 'nothing'}`}`,
      remedy: 'Read the error log of the new server',
    }),
  ];
}

async function logIn(
  { signal }: StepRun,
  { family }: BothSites,
  site: WebSite,
  { user, password }: { readonly user: string; readonly password: string },
): Promise<LoginOutcome> {
  const visitor = new Visitor(site, signal);
  const refused = (said: string): LoginOutcome => ({ isIn: false, said, administration: undefined });
  try {
    const start = new URL(`${formatAddress(site.address)}/${family.loginPage}`);
    const login = await visitor.open(start);
    if (login.status >= 400) return refused(`its login page answers ${login.status}`);
    const form = passwordForm(await readPage(login.html));
    if (!form) return refused('its login page has no form with a password');
    const to = new URL(form.action ?? login.address, login.address);
    if (to.host !== start.host) return refused(`its login form is sent to ${to.host}`);
    const after = await visitor.open(to, filled(form, user, password));
    const page = await readPage(after.html);
    const administration = await visitor.open(
      new URL(formatAddress(site.address) + family.web!.administration),
    );
    const there = await readPage(administration.html);
    const isIn =
      passwordForm(there) === undefined && administration.address.startsWith(formatAddress(site.address));
    if (!isIn) return refused(saidBy(page));
    await visitor.leave(there, administration.address);
    return { isIn, said: '', administration };
  } catch (error) {
    signal.throwIfAborted();
    return refused((error as Error).message);
  }
}

function passwordForm({ forms }: Page): PageForm | undefined {
  return forms.find(({ fields }) => fields.some(({ type }) => type === 'password'));
}

/** The form as a person sends it: the user in the field before the password, everything else as it is. */
function filled({ fields }: PageForm, user: string, password: string): URLSearchParams {
  const form = new URLSearchParams();
  const secret = fields.findIndex(({ type }) => type === 'password');
  const isName = ({ type }: PageForm['fields'][number]) => type === 'text' || type === 'email';
  const name = fields.slice(0, secret).findLast(isName) ?? fields.find(isName);
  for (const [i, field] of fields.entries()) {
    if (i === secret) form.append(field.name, password);
    else if (field === name) form.append(field.name, user);
    else if (field.type !== 'checkbox' && field.type !== 'radio') form.append(field.name, field.value);
  }
  return form;
}

/** What a login page answers to a person whom it does not let in: lines that speak of an error. */
function saidBy({ lines }: Page): string {
  const error = lines.find(line =>
    /error|incorrect|invalid|unknown|not (?:allowed|registered)|cookies|denied|locked|wrong/i.test(line),
  );
  return error === undefined
    ? 'the administration asks for a password again'
    : `it says “${error.slice(0, 120)}”`;
}

const mostHops = 6;

/** A person with a browser that keeps cookies, for as long as the log-in is tried. */
class Visitor {
  private readonly cookies = new Map<string, string>();
  private readonly site: WebSite;
  private readonly signal: AbortSignal;

  constructor(site: WebSite, signal: AbortSignal) {
    this.site = site;
    this.signal = signal;
  }

  async open(start: URL, form?: URLSearchParams): Promise<SeenPage> {
    let url = start;
    let sent = form;
    for (let hop = 0; ; hop++) {
      const cookie = [...this.cookies].map(([name, value]) => `${name}=${value}`).join('; ');
      const headers = { ...(cookie === '' ? {} : { cookie }), ...(hop === 0 ? {} : {}) };
      const answer = await this.site.follow(url, this.signal, {
        headers,
        isOneHop: true,
        ...(sent ? { form: sent } : {}),
      });
      for (const { name, value } of cookiesOf(answer)) this.cookies.set(name, value);
      const leads = answer.status >= 300 && answer.status < 400 && answer.address !== url.href;
      if (!leads || hop === mostHops || new URL(answer.address).host !== url.host) return answer;
      url = new URL(answer.address);
      sent = undefined;
    }
  }

  /** Logs out by the link that the page has for it. */
  async leave(page: Page, address: string): Promise<void> {
    const link = page.links.find(({ target }) => /log-?_?out|task=logout|UserLogout/i.test(target));
    if (!link || !URL.canParse(link.target, address)) return;
    const url = new URL(link.target, address);
    if (url.host === new URL(address).host) await this.open(url);
  }
}
