import { changeVetting } from "../../api/actions";
import { useExposures, useVetting } from "../../api/queries";
import type { Exposure } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";
import { shortName } from "../../ui/words";

/** The exposure that all others are matched to, and how the one under the beam lies on it. */
export function ReferenceSection({ exposures }: { exposures: Exposure[] }) {
  const id = useApp((s) => s.campaign);
  const beam = useApp((s) => s.beam);
  const set = useApp((s) => s.set);
  const { data } = useExposures(id);
  const { data: vetting } = useVetting(id);
  const reference = exposures.find((e) => e.id === data?.reference);
  const here = exposures.find((e) => e.id === beam);
  if (!reference || !data) return null;
  return (
    <Section title="Reference exposure">
      <button
        className="min-h-6 max-w-full truncate text-left hover:text-beam"
        onClick={() => set({ beam: reference.id, master: null })}
      >
        {shortName(reference.name)}
      </button>
      <p className="text-small text-quiet">{data.reference_words}</p>
      {here && here.id !== reference.id && (
        <>
          {here.match && (
            <p className="mt-1 text-small">
              {shortName(here.name)}: {here.match}
            </p>
          )}
          <Button
            className="mt-1.5"
            disabled={!!here.trouble}
            onClick={() => void changeVetting({ reference: here.id })}
          >
            Take {shortName(here.name)} instead
          </Button>
        </>
      )}
      {vetting?.reference_by === "observer" && (
        <Button quiet className="mt-1.5" onClick={() => void changeVetting({ reference: 0 })}>
          Let the program choose
        </Button>
      )}
    </Section>
  );
}
