import { type ByteString, textOf } from '../bytes.js';

/** The names of files that hold text in which a site may name its own addresses. */
const textFile =
  /(?:\.(?:css|less|scss|[mc]?[jt]s|jsx|tsx|vue|json[5c]?|ld|map|html?|xhtml|xml|xsl|rss|atom|txt|text|md|svg|webmanifest|php[3-8]?|phtml|inc|module|install|theme|engine|tpl|twig|latte|mustache|hbs|liquid|ya?ml|toml|ini|conf|cfg|config|env|csv|tsv|vtt|srt|ics|vcf|sh)|(?:^|\/)(?:\.(?:htaccess|user\.ini|env)|\.env\.[\w.-]+|web\.config))$/i;

/** The names of files that a site writes itself and that hold no program. */
const generatedFile = /\.(?:css|js|json|html?|xml|txt|svg|webmanifest)$/i;

/** Bytes of the largest file that is read as one text. */
export const largestText = 32 * 1024 * 1024;

/** Whether a file is looked at for addresses, by its name. */
export function isTextFile(path: ByteString): boolean {
  return textFile.test(textOf(path));
}

/** Whether a file in a folder that the site writes itself is rewritten with the data, by its name. */
export function isGeneratedText(path: ByteString): boolean {
  return generatedFile.test(textOf(path));
}
