/** The page's nonce: styles that CodeMirror and Radix put in carry it. */
export function pageNonce(): string {
  const meta = document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]');
  return meta?.nonce || meta?.getAttribute('nonce') || '';
}
