// @ts-check
// Words that change many times a second.

/** Put words into an element, if they are other ones: the same words again would be laid out anew, too. */
export function write(/** @type {Element} */ element, /** @type {string} */ words) {
  if (element.textContent !== words) element.textContent = words;
}
