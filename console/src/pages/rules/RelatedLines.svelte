<script lang="ts">
  // Tables whose rows refer to those of a table, as lines of the form: each can go along, level by level.
  import { Select } from "../../lib/ui";
  import type { Schemas } from "../../api/client";
  import { keyOf, type Related } from "./draft";
  import Self from "./RelatedLines.svelte";
  let {
    table,
    tables,
    related,
    change,
    depth = 0,
    above = []
  }: {
    table: string;
    tables: Schemas["Table"][];
    related: Related[];
    change: (r: Related[]) => void;
    depth?: number;
    above?: string[];
  } = $props();

  let keys = $derived(
    (tables.find((t) => t.name === table)?.referenced_by ?? []).filter(
      (k) => k.table !== table && !above.includes(k.table)
    )
  );
  // What the form cannot offer, because no foreign key says it, was written by hand: it is shown, and stays.
  let byHand = $derived(related.filter((r) => !keys.some((k) => isOf(r, k))));
  function isOf(r: Related, k: Schemas["ForeignKey"]) {
    if (r.table !== k.table) return false;
    const on = Object.entries(r.on ?? {});
    return on.length === 0
      ? keys.filter((x) => x.table === k.table).length === 1
      : on.length === k.columns.length &&
          on.every(([ours, theirs]) => k.ref_columns[k.columns.indexOf(ours)] === theirs);
  }
  const of = (k: Schemas["ForeignKey"]) => related.find((r) => isOf(r, k));
  function nullable(k: Schemas["ForeignKey"]) {
    const columns = tables.find((t) => t.name === k.table)?.columns ?? [];
    return k.columns.every((c) => columns.find((x) => x.name === c)?.nullable);
  }
  const choices = (k: Schemas["ForeignKey"]) => [
    {
      value: "",
      name:
        k.on_delete === "cascade" || k.on_delete.startsWith("set")
          ? "not named: the rule is refused"
          : "stay, and keep theirs"
    },
    { value: "archive", name: "archive with it" },
    { value: "purge", name: "purge with it, no copy" },
    ...(nullable(k) ? [{ value: "unlink", name: "unlink, and stay" }] : [])
  ];
  function choose(k: Schemas["ForeignKey"], then: string) {
    const old = of(k);
    const rest = related.filter((r) => r !== old);
    if (!then) return change(rest);
    const next: Related = {
      ...(old ?? {
        table: k.table,
        ...(keys.filter((x) => x.table === k.table).length > 1 && { on: keyOf(k) })
      }),
      then
    };
    if (then === "unlink") delete next.related;
    change(old ? related.map((r) => (r === old ? next : r)) : [...related, next]);
  }
</script>

{#each keys as k (k.name + k.table)}
  {@const chosen = of(k)}
  <div
    class="grid grid-cols-[minmax(0,1fr)_13rem] items-center gap-3 py-1 text-sm"
    style:padding-left="{depth * 1.5}rem">
    <span class="truncate" title="{k.table} ({k.columns.join(', ')}), on delete {k.on_delete}"
      ><span class="font-mono">{k.table}</span>
      <span class="text-xs text-gray-600 dark:text-gray-400"
        >({k.columns.join(", ")}){k.on_delete === "no action" || k.on_delete === "restrict"
          ? ""
          : `, on delete ${k.on_delete}`}</span
      ></span>
    <Select
      size="sm"
      placeholder=""
      class="w-full"
      aria-label="Rows of {k.table}"
      items={choices(k)}
      value={chosen?.then ?? ""}
      onchange={(e) => choose(k, (e.target as HTMLSelectElement).value)} />
  </div>
  {#if chosen && chosen.then !== "unlink"}
    <Self
      table={k.table}
      {tables}
      related={chosen.related ?? []}
      depth={depth + 1}
      above={[...above, table]}
      change={(r) =>
        change(related.map((x) => (x === chosen ? { ...x, related: r.length ? r : undefined } : x)))} />
  {/if}
{/each}
{#each byHand as r (r.table)}
  <div class="py-1 text-sm" style:padding-left="{depth * 1.5}rem">
    <span class="font-mono">{r.table}</span>
    <span class="text-xs text-gray-600 dark:text-gray-400"
      >by {Object.entries(r.on ?? {})
        .map(([a, b]) => `${a} = ${b}`)
        .join(", ")}: {r.then}; to be changed under YAML</span>
  </div>
{/each}
