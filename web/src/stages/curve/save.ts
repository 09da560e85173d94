import { colour } from "../../ui/words";

/** Save the charts of a part of the page as one PNG. */
export function savePng(testId: string): void {
  const frame = document.querySelector(`[data-testid="${testId}"]`);
  if (!frame) return;
  const box = frame.getBoundingClientRect();
  const ratio = window.devicePixelRatio || 1;
  const canvas = document.createElement("canvas");
  canvas.width = box.width * ratio;
  canvas.height = box.height * ratio;
  const ctx = canvas.getContext("2d")!;
  ctx.fillStyle = colour("--ground");
  ctx.fillRect(0, 0, canvas.width, canvas.height);
  for (const part of frame.querySelectorAll("canvas")) {
    const at = part.getBoundingClientRect();
    ctx.drawImage(
      part,
      (at.left - box.left) * ratio,
      (at.top - box.top) * ratio,
      at.width * ratio,
      at.height * ratio,
    );
  }
  const link = document.createElement("a");
  link.download = "light-curve.png";
  link.href = canvas.toDataURL("image/png");
  link.click();
}
