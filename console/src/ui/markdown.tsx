import { gfmAutolinkLiteralFromMarkdown } from "mdast-util-gfm-autolink-literal";
import { gfmAutolinkLiteral } from "micromark-extension-gfm-autolink-literal";
import ReactMarkdown from "react-markdown";
import type {} from "remark-parse";
import type { Processor } from "unified";

/** What a note may hold; everything else is shown as the text within it. */
const ELEMENTS = ["p", "a", "strong", "em", "code", "pre", "ul", "ol", "li", "blockquote", "br"];

/** Addresses that are written out are links too. */
function addressesAreLinks(this: Processor) {
  const data = this.data();
  (data.micromarkExtensions ??= []).push(gfmAutolinkLiteral());
  (data.fromMarkdownExtensions ??= []).push(gfmAutolinkLiteralFromMarkdown());
}

/** A link leads to a web page or nowhere: no script, no file, no other program. */
const onlyWeb = (url: string) => (/^https?:\/\//i.test(url) ? url : "");

/** Text that people wrote, in the plain subset of Markdown: paragraphs, lists, quotes, code, emphasis and links. */
export default function Markdown({ text }: { text: string }) {
  return (
    <ReactMarkdown
      allowedElements={ELEMENTS}
      unwrapDisallowed
      skipHtml={false}
      urlTransform={onlyWeb}
      remarkPlugins={[addressesAreLinks]}
      components={{
        a: ({ href, children }) =>
          href ? (
            <a href={href} target="_blank" rel="noopener noreferrer nofollow" className="text-accent underline">
              {children}
            </a>
          ) : (
            <span>{children}</span>
          ),
        pre: ({ children }) => <pre className="bg-wash overflow-x-auto rounded-sm px-2 py-1">{children}</pre>,
        ul: ({ children }) => <ul className="list-disc pl-5">{children}</ul>,
        ol: ({ children }) => <ol className="list-decimal pl-5">{children}</ol>,
        blockquote: ({ children }) => <blockquote className="border-line border-l-2 pl-2">{children}</blockquote>,
      }}
    >
      {text}
    </ReactMarkdown>
  );
}
