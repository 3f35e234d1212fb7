import { Switch } from "radix-ui";

import type { Item } from "@/api/client";
import { Button } from "@/parts/Button";
import { Choose } from "@/parts/Choose";
import { NumberBox } from "@/parts/NumberBox";
import { SlideField } from "@/parts/SlideField";

import { ChannelNumbers } from "./ChannelNumbers";
import { Expressions } from "./Expressions";
import { type Inks, InkProfile } from "./InkProfile";
import { Line } from "./Line";
import { type Meaning, Meanings } from "./Meanings";
import { Numbers } from "./Numbers";
import { type Picking, pickColour, pickLevel, pickPoint } from "./picking";
import { followedIn } from "@/time/movement";

import { Routes } from "./Routes";
import { type SettingSchema, kindOf, wordOf, wordsOf } from "./schema";

interface Props {
  name: string;
  schema: SettingSchema;
  /** The value set, undefined where the default holds. */
  value: unknown;
  /** Channels of the step's first input. */
  channels: string[];
  /** Items above the step. */
  items: Item[];
  picking: Picking;
  /** Domain that the step judges levels in. */
  domain: "display" | "scene";
  onChange: (value: unknown, done: boolean) => void;
}

/** Ids from a text, parted by commas: whole numbers as such, everything else as names. */
export function idsIn(text: string): (string | number)[] {
  const parts = text.split(",").map((part) => part.trim());
  return parts.filter(Boolean).map((part) => (/^-?\d{1,7}$/.test(part) ? Number(part) : part));
}

/** The control of one setting, drawn from its schema. */
export function SettingField({ name, schema, value, channels, items, picking, domain, onChange }: Props) {
  const label = wordsOf(name);
  const recipe = picking.recipe;
  const current = value ?? schema.default;
  switch (kindOf(schema)) {
    case "number":
      return (
        <SlideField
          label={label}
          title={schema.description}
          value={Number(current)}
          low={schema.low ?? schema.minimum ?? 0}
          high={schema.high ?? schema.maximum ?? 1}
          step={schema.step ?? 0.01}
          min={schema.minimum ?? schema.exclusiveMinimum}
          max={schema.maximum ?? schema.exclusiveMaximum}
          unit={schema.unit}
          initial={Number(schema.default)}
          onPick={
            schema.widget === "level"
              ? () =>
                  pickLevel(picking, `a value for ${label.toLowerCase()}`, domain, (next) =>
                    onChange(Number(next.toPrecision(4)), true),
                  )
              : undefined
          }
          onChange={onChange}
        />
      );
    case "integer":
      return (
        <Line label={label} title={schema.description}>
          <NumberBox
            label={label}
            value={Number(current)}
            step={1}
            places={0}
            min={schema.minimum}
            max={schema.maximum}
            unit={schema.unit}
            onChange={(next, done) => onChange(Math.round(next), done)}
          />
        </Line>
      );
    case "switch":
      return (
        <Line label={label} title={schema.description}>
          <Switch.Root
            aria-label={label}
            checked={Boolean(current)}
            onCheckedChange={(next) => onChange(next, true)}
            className="h-4 w-7 rounded-full border border-line bg-well data-[state=checked]:border-lichen data-[state=checked]:bg-lichen"
          >
            <Switch.Thumb className="block h-2.5 w-2.5 translate-x-0.5 rounded-full bg-dim transition-transform data-[state=checked]:translate-x-3.5 data-[state=checked]:bg-on-lichen" />
          </Switch.Root>
        </Line>
      );
    case "choice":
      return (
        <Line label={label} title={schema.description}>
          {(schema.enum ?? []).join("").length <= 22 ? (
            <div className="flex gap-1" role="group" aria-label={label}>
              {schema.enum!.map((option) => (
                <Button key={option} lit={current === option} onClick={() => onChange(option, true)}>
                  {option}
                </Button>
              ))}
            </div>
          ) : (
            <Choose
              label={label}
              value={String(current)}
              options={schema.enum ?? []}
              onChange={(next) => onChange(next, true)}
              className="w-36"
            />
          )}
        </Line>
      );
    case "numbers": {
      const colour = schema.widget === "colour";
      const pick = (take: (value: number[]) => void) => () =>
        schema.widget === "point" ? pickPoint(label, take) : pickColour(picking, label, take);
      const onPick =
        schema.sampled || schema.widget === "point" ? pick((next) => onChange(next, true)) : undefined;
      if (!Array.isArray(current))
        return (
          <Line label={label} title={schema.description}>
            <span className="text-faint">none</span>
            <Button onClick={onPick}>Pick from the picture</Button>
          </Line>
        );
      return (
        <Line label={label} title={schema.description}>
          <Numbers
            label={label}
            value={current as number[]}
            step={schema.widget === "point" ? 1 : 0.01}
            colour={colour}
            encoded={picking.encoded}
            onChange={onChange}
            onPick={onPick}
          />
        </Line>
      );
    }
    case "rows":
      return (
        <div title={schema.description}>
          <span className="text-dim">{label}</span>
          {(current as number[][]).map((row, index) => (
            <Numbers
              key={index}
              label={`${label} row ${index + 1}`}
              value={row}
              step={0.01}
              onChange={(next, done) =>
                onChange(
                  (current as number[][]).map((old, at) => (at === index ? next : old)),
                  done,
                )
              }
            />
          ))}
        </div>
      );
    case "ids":
      return (
        <Line label={label} title={`${schema.description}; parted by commas`}>
          <input
            key={`value ${JSON.stringify(current)}`}
            aria-label={label}
            defaultValue={((current ?? []) as (string | number)[]).join(", ")}
            placeholder="none yet"
            onKeyDown={(event) => {
              event.stopPropagation();
              if (event.key === "Enter") event.currentTarget.blur();
            }}
            onBlur={(event) => {
              const next = idsIn(event.target.value);
              if (JSON.stringify(next) !== JSON.stringify(current ?? [])) onChange(next, true);
            }}
            className="h-6 min-w-0 grow rounded-sm border border-line bg-well px-2 font-mono text-[12px] placeholder:text-faint"
          />
        </Line>
      );
    case "numberOrWord": {
      const word = wordOf(schema)!;
      const number = schema.anyOf!.find((part) => part.const === undefined)!;
      const usual = typeof schema.default === "number" ? schema.default : 16;
      return (
        <Line label={label} title={schema.description}>
          <Button lit={current === word} onClick={() => onChange(current === word ? usual : word, true)}>
            {word}
          </Button>
          {current !== word && (
            <NumberBox
              label={label}
              value={Number(current)}
              step={1}
              places={number.type === "integer" ? 0 : undefined}
              min={number.minimum ?? 0}
              max={number.maximum}
              unit={schema.unit}
              onChange={(next, done) => onChange(number.type === "integer" ? Math.round(next) : next, done)}
            />
          )}
        </Line>
      );
    }
    case "optionalInteger": {
      const limits = schema.anyOf!.find((part) => part.type === "integer")!;
      const given = typeof current === "number";
      return (
        <Line label={label} title={schema.description}>
          <Button lit={!given} onClick={() => onChange(given ? undefined : 1024, true)}>
            as it comes
          </Button>
          {given && (
            <NumberBox
              label={label}
              value={current}
              step={1}
              places={0}
              min={limits.minimum}
              max={limits.maximum}
              unit={schema.unit}
              onChange={(next, done) => onChange(Math.round(next), done)}
            />
          )}
        </Line>
      );
    }
    case "text":
      return (
        <Line label={label} title={schema.description}>
          <input
            key={`value ${String(current)}`}
            aria-label={label}
            defaultValue={String(current)}
            onKeyDown={(event) => {
              event.stopPropagation();
              if (event.key === "Enter") event.currentTarget.blur();
            }}
            onBlur={(event) => event.target.value !== current && onChange(event.target.value, true)}
            className="h-6 min-w-0 grow rounded-sm border border-line bg-well px-2 font-mono text-[12px]"
          />
        </Line>
      );
    case "meanings":
      return (
        <Meanings
          value={(current ?? {}) as Record<string, Meaning>}
          onChange={(next) => onChange(next, true)}
        />
      );
    case "inkProfile":
      return (
        <InkProfile
          label={label}
          title={schema.description}
          value={current as Inks}
          items={items}
          onChange={(next) => onChange(next, true)}
        />
      );
    case "movement": {
      const choices = followedIn(recipe);
      const own = JSON.stringify(current ?? null);
      const held = choices.find((choice) => JSON.stringify(choice.movement) === own);
      return (
        <Line label={label} title={schema.description}>
          <Choose
            label={label}
            value={held?.label ?? (current ? "its own" : "none")}
            options={[
              "none",
              ...(current && !held ? ["its own"] : []),
              ...choices.map((choice) => choice.label),
            ]}
            onChange={(next) =>
              next !== "its own" &&
              onChange(
                next === "none" ? undefined : choices.find((choice) => choice.label === next)!.movement,
                true,
              )
            }
            className="w-44"
          />
        </Line>
      );
    }
    case "expressions":
      return (
        <Expressions value={current as Record<string, string>} onChange={(next) => onChange(next, true)} />
      );
    case "channels": {
      const chosen = Array.isArray(current) ? (current as string[]) : [];
      return (
        <Line label={label} title={schema.description}>
          <div className="flex flex-wrap gap-1">
            {channels.slice(0, 8).map((channel) => (
              <Button
                key={channel}
                lit={chosen.includes(channel)}
                onClick={() =>
                  onChange(
                    chosen.includes(channel)
                      ? chosen.filter((other) => other !== channel)
                      : [...chosen, channel],
                    true,
                  )
                }
              >
                {channel}
              </Button>
            ))}
          </div>
        </Line>
      );
    }
    case "channelNumbers":
      return (
        <ChannelNumbers
          label={label}
          value={(current ?? {}) as Record<string, number>}
          channels={channels}
          onChange={onChange}
        />
      );
    case "routes":
      return (
        <Routes
          value={(current ?? {}) as Record<string, never>}
          items={items}
          onChange={(next) => onChange(next, true)}
        />
      );
    default:
      return (
        <Line label={label}>
          <code className="truncate font-mono text-[11px] text-dim">{JSON.stringify(current)}</code>
        </Line>
      );
  }
}
