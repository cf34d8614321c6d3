// Files dropped anywhere on the page.

export function watchDrops(onDragging, onFiles) {
  let depth = 0;
  const holdsFiles = (event) => event.dataTransfer?.types.includes("Files");
  const dragging = (change) => {
    depth = Math.max(0, depth + change);
    onDragging(depth > 0);
  };
  addEventListener("dragenter", (event) => holdsFiles(event) && dragging(1));
  addEventListener("dragleave", (event) => holdsFiles(event) && dragging(-1));
  addEventListener("dragover", (event) => holdsFiles(event) && event.preventDefault());
  addEventListener("drop", (event) => {
    if (!holdsFiles(event)) return;
    event.preventDefault();
    dragging(-depth);
    onFiles([...event.dataTransfer.files]);
  });
}
