<script lang="ts">
  // Readings of whole stores: how far they are, and what they found.
  import { TableBodyCell, TableBodyRow, Toggle } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { count, plural, share, size } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  let { seconds = false, done }: { seconds?: boolean; done: () => void } = $props();
  const list = new Loader(() => take(api.GET("/verifications", { params: { query: { limit: 8 } } })));
  let going = $derived(list.data?.items.find((v) => v.state === "running"));
  let open = $state("");
  let repair = $state(false);
  let problem = $state<Problem>();
  let was = "";
  $effect(() =>
    whenChanged(async () => {
      await list.load();
      if (was && was !== going?.id) done();
      was = going?.id ?? "";
    })
  );

  async function verify() {
    problem = undefined;
    try {
      const v = await take(api.POST("/verifications", { body: { repair: repair && seconds } }));
      open = v.id;
      await list.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  function what(v: Schemas["Verification"]): string {
    return (
      [v.store && `store ${v.store}`, v.table && `${v.source}.${v.table}`].filter(Boolean).join(", ") ||
      "all stores"
    );
  }
</script>

<Panel title="Verified">
  <div class="flex flex-wrap items-center gap-4 px-4 py-3 text-sm">
    <Act right="operate" size="xs" disabled={!!going} onclick={verify}>Verify everything</Act>
    {#if seconds}<Toggle size="small" bind:checked={repair}>replace what is damaged from second copies</Toggle
      >{/if}
    <span class="text-gray-500 dark:text-gray-400"
      >Reads every row, every record and every chain back from the stores.</span>
  </div>
  <Trouble problem={problem ?? list.problem} />
  {#if going}
    <div class="px-4 pb-3 text-sm">
      <div class="mb-1 flex justify-between gap-3">
        <span
          >{what(going)}: {count(going.segments)} of {plural(going.of, "segment")}, {plural(
            going.rows,
            "row"
          )}</span
        ><span>{size(going.bytes)} of {size(going.of_bytes)}</span>
      </div>
      <Bar percent={share(going.bytes, going.of_bytes)} label="progress of the verification" />
      {#if going.reason}<p class="mt-1 text-amber-800 dark:text-amber-300" role="status">
          {going.reason}
        </p>{/if}
    </div>
  {/if}
  <Listing
    label="Verifications"
    heads={["Of", "State", "#Segments", "#Rows", "#Read", "#Wrong", "By", "Begun", ""]}
    items={list.data?.items}>
    {#snippet row(v: Schemas["Verification"])}
      <TableBodyRow>
        <TableBodyCell>{what(v)}</TableBodyCell>
        <TableBodyCell><span title={v.reason}><State state={v.state} /></span></TableBodyCell>
        <TableBodyCell class="text-right">{count(v.segments)}</TableBodyCell>
        <TableBodyCell class="text-right">{count(v.rows)}</TableBodyCell>
        <TableBodyCell class="text-right">{size(v.bytes)}</TableBodyCell>
        <TableBodyCell
          class="text-right {v.wrong > v.repaired ? 'font-semibold text-red-700 dark:text-red-400' : ''}"
          >{count(v.wrong)}{#if v.repaired > 0}{" "}({count(v.repaired)} repaired){/if}</TableBodyCell>
        <TableBodyCell>{v.created_by}</TableBodyCell>
        <TableBodyCell><When at={v.created_at} /></TableBodyCell>
        <TableBodyCell class="text-right"
          >{#if v.findings.length}<button
              class="text-link text-xs"
              aria-expanded={open === v.id}
              onclick={() => (open = open === v.id ? "" : v.id)}
              >{open === v.id ? "less" : plural(v.findings.length, "finding")}</button
            >{/if}</TableBodyCell>
      </TableBodyRow>
      {#if open === v.id && v.findings.length}
        <TableBodyRow
          ><td colspan="9" class="px-4 py-2">
            <ul class="space-y-1.5 text-sm" data-testid="findings">
              {#each v.findings as f, i (i)}
                <li class="flex flex-wrap items-baseline gap-x-3">
                  <span
                    class="w-24 shrink-0 font-semibold {f.repaired
                      ? 'text-green-700 dark:text-green-400'
                      : f.wrong
                        ? 'text-red-700 dark:text-red-400'
                        : 'text-gray-500 dark:text-gray-400'}">{f.kind}</span>
                  <span class="min-w-0 flex-1 break-words"
                    >{f.message}{#if f.repaired}; repaired from {f.repaired}{/if}<span
                      class="block font-mono text-xs break-all text-gray-500 dark:text-gray-400"
                      >{f.store}: {f.file}</span
                    ></span>
                </li>
              {/each}
            </ul>
          </td></TableBodyRow>
      {/if}
    {/snippet}
    {#snippet empty()}<Blank title="Nothing has been verified yet"
        >Each segment is read back when it is written. From then on, scrubbing reads it again and again; see <code
          >store set</code
        >.</Blank
      >{/snippet}
  </Listing>
</Panel>
