// Files dropped anywhere on the page; onFiles gets them and the element that they were let go over. That the browser does not open them itself is seen to by `early.js`.

export function watchDrops(onDragging, onFiles) {
  let depth = 0;
  const holdsFiles = (event) => event.dataTransfer?.types.includes("Files");
  const dragging = (change) => {
    depth = Math.max(0, depth + change);
    onDragging(depth > 0);
  };
  const take = (where) => droppedEarly.length && onFiles(droppedEarly.splice(0), where);
  addEventListener("dragenter", (event) => holdsFiles(event) && dragging(1));
  addEventListener("dragleave", (event) => holdsFiles(event) && dragging(-1));
  addEventListener("drop", (event) => {
    if (!holdsFiles(event)) return;
    dragging(-depth);
    take(event.target);
  });
  take();
}
