import { useCampaign, useCatalogue, useMeasured } from "../../api/queries";
import { useApp } from "../../state";
import { Fact, Section } from "../../ui/parts";
import { declination, fixed, rightAscension } from "../../ui/words";

/** All that the catalogue and this exposure know of the star that is chosen. */
export function StarSection() {
  const id = useApp((s) => s.campaign);
  const star = useApp((s) => s.star);
  const beam = useApp((s) => s.beam);
  const { data: catalogue } = useCatalogue(id);
  const { data: campaign } = useCampaign(id);
  const { data: measured } = useMeasured(id, beam);
  const i = star === null ? -1 : (catalogue?.row.indexOf(star) ?? -1);
  if (i < 0 || !catalogue) return null;
  const at = measured?.row.indexOf(star!) ?? -1;
  const away = Math.hypot(catalogue.east_arcsec[i]!, catalogue.north_arcsec[i]!);
  const bands = Object.entries(catalogue.magnitudes).filter(([, m]) => m[i] != null);
  return (
    <Section title={catalogue.name[i]} aside={catalogue.known_variable[i] ? "known to vary" : ""}>
      <dl>
        <Fact name="position">
          {rightAscension(catalogue.ra_deg[i]!)}
          <br />
          {declination(catalogue.dec_deg[i]!)}
        </Fact>
        {bands.map(([band, m]) => (
          <Fact key={band} name={`${band} magnitude`}>
            {fixed(m[i], 3)}
          </Fact>
        ))}
        {catalogue.note[i] && <Fact name="varies">{catalogue.note[i]}</Fact>}
        {catalogue.pm_arcsec_yr[i]! > 0.02 && (
          <Fact name="moves">{fixed(catalogue.pm_arcsec_yr[i]!, 2, "″ a year")}</Fact>
        )}
        {!!catalogue.parallax_mas[i] && (
          <Fact name="parallax">{fixed(catalogue.parallax_mas[i], 2, "mas")}</Fact>
        )}
        {star !== campaign?.cast?.target && (
          <Fact name="from the target">
            {away < 90 ? fixed(away, 1, "″") : fixed(away / 60, 2, "′")}
          </Fact>
        )}
        {at >= 0 && (
          <>
            <Fact name="here">{fixed(measured!.magnitude[at], 3, "mag")}</Fact>
            <Fact name="signal to noise">{fixed(measured!.snr[at], 0)}</Fact>
            <Fact name="beside its place">
              {fixed(
                Math.hypot(
                  measured!.x_px[at]! - measured!.predicted_x_px[at]!,
                  measured!.y_px[at]! - measured!.predicted_y_px[at]!,
                ),
                2,
                "px",
              )}
            </Fact>
          </>
        )}
      </dl>
      {at >= 0 && measured!.flags[at] && <p className="text-trouble">{measured!.flags[at]}</p>}
    </Section>
  );
}
