import { useFigures } from "../../api/queries";
import { useApp } from "../../state";
import { Section } from "../../ui/parts";
import { fixed } from "../../ui/words";

/** What correction does to the exposure at the beam, in numbers before and after. */
export function FiguresSection({ file }: { file: number }) {
  const { data } = useFigures(
    useApp((s) => s.campaign),
    file,
  );
  if (!data) return null;
  const shown = (value: number | null | undefined, unit: string) =>
    value == null ? "–" : fixed(value, unit === "" ? 0 : 2);
  return (
    <Section title="In numbers">
      <table className="w-full">
        <thead>
          <tr className="text-small text-quiet">
            <th className="text-left font-normal">this exposure</th>
            <th className="text-right font-normal">raw</th>
            <th className="pl-3 text-right font-normal">corrected</th>
          </tr>
        </thead>
        <tbody>
          {data.figures.map((f) => (
            <tr key={f.name} className="border-t border-line">
              <td className="py-0.5">
                {f.name} <span className="text-quiet">{f.unit}</span>
              </td>
              <td className="num text-right text-quiet">{shown(f.raw, f.unit)}</td>
              <td className="num text-right">{shown(f.corrected, f.unit)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  );
}
