import { sayOfKit } from "../api/actions";
import { useKits, useTransfer } from "../api/queries";
import { Chart, type Place } from "../charts/Chart";
import { useApp } from "../state";
import { Button } from "./Button";
import { colour, filterColour, fixed } from "./words";

/** What pairs of a kit's flats say of its gain, its read noise and its linear range. */
export function Transfer() {
  const id = useApp((s) => s.campaign);
  const name = useApp((s) => s.kit);
  const { data, error } = useTransfer(id, name);
  const { data: kits } = useKits(id);
  const kit = kits?.kits.find((k) => k.name === name);
  if (error) return <p className="text-trouble">{error.message}</p>;
  if (!data) return <p className="text-quiet">Measuring pairs of flats …</p>;
  if (!data.points.length) return <p>{data.words}</p>;
  const top = 1.08 * Math.max(...data.points.map((p) => p.level_adu));
  const dark = (data.read_noise_e / data.gain_e_per_adu) ** 2;
  const line = (level: number) => dark + level / data.gain_e_per_adu;
  const high = 1.1 * Math.max(line(top), ...data.points.map((p) => p.variance_adu2));
  const filters = [...new Set(data.points.map((p) => p.filter))];
  const draw = (ctx: CanvasRenderingContext2D, place: Place) => {
    ctx.strokeStyle = colour("--quiet");
    ctx.lineWidth = 1.2 * place.ratio;
    ctx.beginPath();
    ctx.moveTo(place.x(0), place.y(line(0)));
    ctx.lineTo(place.x(top), place.y(line(top)));
    ctx.stroke();
    const end = data.linear_to_adu - data.bias_adu;
    ctx.strokeStyle = colour("--beam");
    ctx.setLineDash(data.bends ? [] : [4 * place.ratio, 4 * place.ratio]);
    ctx.beginPath();
    ctx.moveTo(place.x(end), place.y(0));
    ctx.lineTo(place.x(end), place.y(high));
    ctx.stroke();
    ctx.setLineDash([]);
    // One ring in the other, since flats of several filters are taken at the same levels.
    ctx.lineWidth = 1.6 * place.ratio;
    for (const p of data.points) {
      ctx.strokeStyle = colour(filterColour(p.filter));
      ctx.beginPath();
      const r = 2.2 + 2.4 * filters.indexOf(p.filter);
      ctx.arc(place.x(p.level_adu), place.y(p.variance_adu2), r * place.ratio, 0, 7);
      ctx.stroke();
    }
  };
  const offer = [
    ["gain_e_per_adu", "gain", fixed(data.gain_e_per_adu, 3), "e⁻ an ADU"],
    ["read_noise_e", "read noise", fixed(data.read_noise_e, 2), "e⁻"],
    ...(data.bends
      ? ([["linear_limit_adu", "linear limit", fixed(data.linear_to_adu, 0), "ADU"]] as const)
      : []),
  ] as const;
  return (
    <>
      <p>
        <span className="num text-quiet">{name}.</span> {data.words}
      </p>
      <Chart
        className="h-72"
        testId="transfer"
        x={[0, top]}
        y={[0, high]}
        label="variance of a pixel, ADU²"
        xLabel="level above bias, ADU"
        xAxis
        draw={draw}
      >
        <span className="pointer-events-none absolute top-0.5 right-4 flex gap-3 text-small">
          {filters.map((filter) => (
            <span key={filter} style={{ color: filterColour(filter) }}>
              ○ {filter || "no filter"}
            </span>
          ))}
          <span className="text-quiet">— photon noise</span>
          <span className="text-beam">
            │ {data.bends ? "end of linear range" : "brightest flat"}
          </span>
        </span>
      </Chart>
      {kit && (
        <table>
          <tbody>
            {offer.map(([key, label, value, unit]) => (
              <tr key={key} className="border-t border-line">
                <td className="py-1 whitespace-nowrap text-quiet">{label}</td>
                <td className="num px-3 whitespace-nowrap">
                  {value} {unit}
                </td>
                <td className="num w-full text-small text-quiet">
                  in force: {kit.constants[key] ?? kit.said[key] ?? "not measured with yet"}
                </td>
                <td>
                  <Button
                    onClick={() =>
                      void sayOfKit(name, {
                        ...kit.said,
                        [key]: Number(value.replace(/[,\s]/g, "")),
                      })
                    }
                  >
                    Take
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
