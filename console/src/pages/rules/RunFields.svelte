<script lang="ts">
  // When and how fast the runs of a rule work. Fields that say nothing leave the rule as it is without them.
  import { Input, Label, Select } from "../../lib/ui";
  import type { Draft } from "./draft";
  let { draft, set, parted }: { draft: Draft; set: (part: Partial<Draft>) => void; parted: boolean } =
    $props();

  const value = (e: Event) => (e.target as HTMLInputElement | HTMLSelectElement).value.trim();
  const number = (e: Event) => Math.max(0, Math.round(Number(value(e)))) || undefined;
  const some = <T extends object>(o: T) =>
    Object.values(o).some((v) => v !== undefined && v !== "") ? o : undefined;
  const megabytes = (n: number | undefined) => (n ? String(n / 1e6) : "");
  const bytes = (e: Event) => {
    const n = number(e);
    return n && n * 1e6;
  };
  // a name has neither blanks nor colons, but `hourly`, which says itself when that is
  const scheduled = (text: string): Draft["schedule"] => {
    const { missed, from, zone } = draft.schedule ?? {};
    if (!text) return undefined;
    return /^[a-z0-9-]+$/.test(text) && text !== "hourly"
      ? { name: text, missed }
      : { when: text, from, zone, missed };
  };
  let said = $derived(
    [
      draft.pace === "unlimited" && "unlimited",
      draft.bound && `others at most ${Math.round(draft.bound * 1e4) / 100} % slower`,
      draft.window?.length && `in ${draft.window.join(", ")}`,
      draft.budget && "with a budget",
      draft.log && "with a bound for the log",
      draft.schedule && `by itself: ${draft.schedule.name ?? draft.schedule.when}`
    ]
      .filter(Boolean)
      .join(", ")
  );
</script>

<details class="border-t border-gray-200 px-4 py-3 dark:border-gray-700" open={!!said}>
  <summary class="cursor-pointer text-sm"
    >When and how fast its runs work{said ? `: ${said}` : ": gently, at any time"}</summary>
  <div class="mt-3 grid gap-x-4 gap-y-3 sm:grid-cols-3">
    <Label class="sm:col-span-3"
      >Schedule<Input
        size="sm"
        id="schedule"
        placeholder="by hand only; or like daily at 02:30, weekdays at 22:00, 30 2 * * *, or the name of a schedule"
        value={draft.schedule?.name ?? draft.schedule?.when ?? ""}
        onchange={(e) => set({ schedule: scheduled(value(e)) })} /></Label>
    <Label
      >Pace<Select
        size="sm"
        placeholder=""
        id="pace"
        items={[
          { value: "gentle", name: "gentle: what others leave free" },
          { value: "careful", name: "careful: long rests, even alone" },
          { value: "unlimited", name: "unlimited: nobody else matters" }
        ]}
        value={draft.pace ?? "gentle"}
        onchange={(e) => set({ pace: value(e), bound: undefined })} /></Label>
    {#if (draft.pace ?? "gentle") === "gentle"}
      <Label
        >How much slower others may become, in %<Input
          size="sm"
          id="bound"
          type="number"
          min="1"
          max="100"
          placeholder="10"
          value={draft.bound ? Math.round(draft.bound * 1e4) / 100 : ""}
          onchange={(e) =>
            set({ bound: number(e) ? Math.min(number(e) ?? 10, 100) / 100 : undefined })} /></Label>
    {/if}
    <Label class="sm:col-span-2"
      >Windows, by the clock of its zone<Input
        size="sm"
        id="window"
        placeholder="at any time; or like mon-fri 22:00-05:00, sat 12:00-20:00"
        value={(draft.window ?? []).join(", ")}
        onchange={(e) =>
          set({
            window: value(e)
              ? value(e)
                  .split(/,(?=\s)/)
                  .map((w) => w.trim())
              : undefined
          })} /></Label>
    <Label
      >Rows of one window<Input
        size="sm"
        id="budget-rows"
        type="number"
        min="0"
        placeholder="all"
        value={draft.budget?.rows ?? ""}
        onchange={(e) => set({ budget: some({ ...draft.budget, rows: number(e) }) })} /></Label>
    <Label
      >Time of one window<Input
        size="sm"
        id="budget-time"
        placeholder="all of it; or like PT4H"
        value={draft.budget?.time ?? ""}
        onchange={(e) => set({ budget: some({ ...draft.budget, time: value(e) || undefined }) })} /></Label>
    {#if parted}<Label
        >Partitions that are wholly due<Select
          size="sm"
          placeholder=""
          id="partitions"
          items={[
            { value: "", name: "leave as a whole" },
            { value: "rows", name: "go row by row" }
          ]}
          value={draft.partitions ?? ""}
          onchange={(e) => set({ partitions: value(e) || undefined })} /></Label
      >{:else}<span></span>{/if}
    <Label
      >Log a minute, MB<Input
        size="sm"
        id="log-minute"
        type="number"
        min="0"
        placeholder="no bound"
        value={megabytes(draft.log?.minute)}
        onchange={(e) => set({ log: some({ ...draft.log, minute: bytes(e) }) })} /></Label>
    <Label
      >Log of a run, MB<Input
        size="sm"
        id="log-run"
        type="number"
        min="0"
        placeholder="no bound"
        value={megabytes(draft.log?.run)}
        onchange={(e) => set({ log: some({ ...draft.log, run: bytes(e) }) })} /></Label>
  </div>
</details>
