// The price curve: its target can be dragged, for one source alone. What that leads to, the server says.

import { say } from "../page.js";
import { post } from "../requests.js";

const STEP_LU = 0.5;
const FINE_STEP_LU = 0.1;

export function watchPrice(place) {
  place.addEventListener("pointerdown", (event) => {
    const grip = event.target.closest(".price .grip");
    if (!grip) return;
    event.preventDefault();
    const drawing = grip.closest("svg");
    const aim = drawing.querySelector(".aim");
    const { levelAtTop, levelPerPixel } = drawing.dataset;
    let target = null;
    const move = (moved) => {
      const step = moved.shiftKey ? FINE_STEP_LU : STEP_LU;
      const y = moved.clientY - drawing.getBoundingClientRect().top;
      target = Math.round((levelAtTop - y * levelPerPixel) / step) * step;
      const at = (levelAtTop - target) / levelPerPixel;
      aim.setAttribute("d", `M34 ${at.toFixed(1)}H294`);
    };
    const end = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", end);
      if (target !== null) send(drawing.dataset.ownTarget, { target: target.toFixed(1) });
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", end);
  });
  place.addEventListener("click", (event) => {
    const back = event.target.closest("[data-spec-target]");
    if (back) send(back.dataset.specTarget, {});
  });
}

async function send(address, fields) {
  try {
    await post(address, fields);
  } catch (error) {
    say(error.message);
  }
}
