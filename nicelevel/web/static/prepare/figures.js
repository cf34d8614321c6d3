// What is typed in the figures of a step.

export const number = (text) => Number(text.replace("−", "-").replace(",", "."));

// A figure, a word, or a list as it is typed; what is none goes to the server, which says so.
export function valueOf(field, was) {
  const text = field.value.trim();
  if (Array.isArray(was)) return listOf(text, Array.isArray(was[0]));
  if (text === "") return null;
  return Number.isNaN(number(text)) ? text : number(text);
}

function listOf(text, hasRows) {
  if (hasRows) return text.split(";").map((row) => listOf(row, false));
  return text.split(",").map((each) => number(each)).filter((each) => !Number.isNaN(each));
}
