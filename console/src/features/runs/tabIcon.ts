/** What the tab's icon shows of a run, so that it is seen while another page is looked at. */

const SIZE = 32;

/**
 * Shows a run on the tab's icon: a ring in the dye of its state, as full as it is far.
 *
 * @param state of the run; null shows the plain icon again.
 * @param fraction how far it is, from 0 to 1.
 */
export function showOnIcon(state: string | null, fraction: number): void {
  const link = document.querySelector<HTMLLinkElement>("link[rel=icon]");
  if (!link) return;
  if (state === null) {
    link.href = "/icon.svg";
    return;
  }
  const canvas = document.createElement("canvas");
  canvas.width = canvas.height = SIZE;
  const pen = canvas.getContext("2d");
  if (!pen) return;
  const style = getComputedStyle(document.documentElement);
  const colour = (name: string) => style.getPropertyValue(name).trim();
  const ring = (from: number, to: number, dye: string) => {
    pen.strokeStyle = dye;
    pen.lineWidth = 7;
    pen.beginPath();
    pen.arc(SIZE / 2, SIZE / 2, 11, (from - 0.25) * 2 * Math.PI, (to - 0.25) * 2 * Math.PI);
    pen.stroke();
  };
  ring(0, 1, colour("--edge"));
  ring(0, Math.max(0.05, fraction), colour(`--dye-${state}`));
  link.href = canvas.toDataURL("image/png");
}
