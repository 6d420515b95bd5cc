import { type ByteString, textOf } from '../../bytes.js';

/** The names of files that hold text in which a site names its own addresses. */
const textFile =
  /(?:\.(?:css|less|scss|m?js|json|html?|xhtml|xml|xsl|txt|svg|webmanifest|php|phtml|inc|tpl|twig|md|ya?ml|ini|csv|vtt)|(?:^|\/)\.(?:htaccess|user\.ini))$/i;

/** The names of files that a site writes itself and that hold no program. */
const generatedFile = /\.(?:css|js|json|html?|xml|txt|svg|webmanifest)$/i;

/** Bytes of the largest text that is rewritten. */
export const largestText = 32 * 1024 * 1024;

export function isTextFile(path: ByteString): boolean {
  return textFile.test(textOf(path));
}

export function isGeneratedText(path: ByteString): boolean {
  return generatedFile.test(textOf(path));
}
