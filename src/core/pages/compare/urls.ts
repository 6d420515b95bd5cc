import { withoutTokens } from './noise.js';

/** A link as a whole address, without its fragment; what cannot be one stays as it is written. */
export function whole(link: string, address: string): string {
  if (!URL.canParse(link, address)) return link;
  const url = new URL(link, address);
  url.hash = '';
  return url.href;
}

export function isFollowed(target: string): boolean {
  return !/^(?:data|javascript|blob|about|mailto|tel|sms):|^#/i.test(target.trim());
}

export function sameUrl(one: string, other: string): boolean {
  return withoutTokens(whole(one, one)) === withoutTokens(whole(other, other));
}

/** The host of a URL, with its port where that is not the scheme's own; empty for what is no URL. */
export function hostOf(url: string): string {
  return URL.canParse(url) ? new URL(url).host : '';
}
