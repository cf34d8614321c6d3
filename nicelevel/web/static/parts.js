// Swapping parts of a page that the server drew anew.

// Swaps every element of some HTML, outside a table, that has an id; whether there were any.
export function swapParts(fresh) {
  const page = typeof fresh === "string" ? parsed(fresh) : fresh;
  const parts = [...page.querySelectorAll("body > [id]")];
  for (const part of parts) document.getElementById(part.id)?.replaceWith(part);
  return parts.length > 0;
}

export function parsed(html) {
  return new DOMParser().parseFromString(html, "text/html");
}
