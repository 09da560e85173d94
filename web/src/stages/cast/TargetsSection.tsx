import { followToo, leaveTarget, turnTo } from "../../api/actions";
import { useCatalogue } from "../../api/queries";
import type { Campaign } from "../../api/types";
import { useApp } from "../../state";
import { Button } from "../../ui/Button";
import { Section } from "../../ui/parts";

/** The targets of the field, each with its own cast; one is in front on every screen. */
export function TargetsSection({ campaign }: { campaign: Campaign }) {
  const star = useApp((s) => s.star);
  const { data: catalogue } = useCatalogue(campaign.id);
  const several = campaign.targets.length > 1;
  const i = star === null ? -1 : (catalogue?.row.indexOf(star) ?? -1);
  const name = i < 0 ? "" : catalogue!.name[i]!;
  const known = campaign.targets.some((t) => t.name === name) || star === campaign.target.row;
  if (!several && (known || !name)) return null;
  return (
    <Section title="Targets" aside={several ? "each with its own cast" : undefined}>
      {several &&
        campaign.targets.map((target) => (
          <div key={target.place} className="flex items-center gap-1.5 py-0.5">
            <button
              className={`min-w-0 flex-1 truncate text-left ${target.in_front ? "text-beam" : "hover:text-beam"}`}
              aria-pressed={target.in_front}
              onClick={() => void turnTo(campaign.id, target.place)}
            >
              <span aria-hidden className="mr-1.5">
                {target.in_front ? "◆" : "◇"}
              </span>
              {target.name || `target ${target.place + 1}`}
            </button>
            <button
              className="min-h-6 px-1 text-quiet hover:text-trouble"
              title="Follow it no longer; what was measured stays"
              aria-label={`leave ${target.name}`}
              onClick={() => void leaveTarget(campaign.id, target.place)}
            >
              ×
            </button>
          </div>
        ))}
      {!known && name && (
        <Button className="mt-1" onClick={() => void followToo(campaign.id, star!)}>
          Follow {name}, too
        </Button>
      )}
    </Section>
  );
}
