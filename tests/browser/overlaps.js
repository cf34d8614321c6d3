// What does not fit into the window, and words that lie under something else. What is scrolled away or cut off by
// its own box is neither, nor is what lies under a part that stays in place while the rest scrolls.
() => {
  const found = [];
  const page = document.documentElement;
  if (page.scrollWidth > innerWidth + 1) found.push(`the page is ${page.scrollWidth} wide`);
  const styleOf = (element) => getComputedStyle(element);
  const isCut = (element, x, y) => {
    for (let at = element; at && at !== page; at = at.parentElement) {
      if (styleOf(at).overflowX === "visible" && styleOf(at).overflowY === "visible") continue;
      const box = at.getBoundingClientRect();
      if (x < box.left || x > box.right || y < box.top || y > box.bottom) return true;
    }
    return x < 0 || y < 0 || x > innerWidth || y > innerHeight;
  };
  const stays = (element) => {
    for (let at = element; at && at !== page; at = at.parentElement)
      if (["sticky", "fixed"].includes(styleOf(at).position)) return true;
    return false;
  };
  const words = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (words.nextNode()) {
    const element = words.currentNode.parentElement;
    if (!words.currentNode.data.trim() || element.closest("svg, script, style, template, select, textarea")) continue;
    if (!element.checkVisibility({ opacityProperty: true, visibilityProperty: true })) continue;
    const range = document.createRange();
    range.selectNodeContents(words.currentNode);
    for (const box of range.getClientRects()) {
      const y = (box.top + box.bottom) / 2;
      for (const x of [box.left + 1.5, box.right - 1.5]) {
        if (box.width < 4 || isCut(element, x, y) || styleOf(element).pointerEvents === "none") continue;
        const above = document.elementFromPoint(x, y);
        if (!above || above.contains(element) || element.contains(above) || stays(above)) continue;
        found.push(`${words.currentNode.data.trim().slice(0, 60)} is under ${above.outerHTML.slice(0, 100)}`);
      }
    }
  }
  return found;
}
