// 0:12.4, 12:41.0, 1:02:00: a time on a clock.
export function clock(atS, decimals = 0) {
  const scaled = Math.floor(atS * 10 ** decimals + 1e-6) / 10 ** decimals;
  const hours = Math.floor(scaled / 3600), minutes = Math.floor((scaled % 3600) / 60);
  const seconds = (scaled - hours * 3600 - minutes * 60).toFixed(decimals).padStart(decimals ? decimals + 3 : 2, "0");
  return hours ? `${hours}:${String(minutes).padStart(2, "0")}:${seconds}` : `${minutes}:${seconds}`;
}
