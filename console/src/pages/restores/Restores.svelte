<script lang="ts">
  import { Button, Input, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, restoreFile, take, type Problem, type Schemas } from "../../api/client";
  import { count, plural, share, short, size } from "../../lib/format";
  import { whenChanged } from "../../lib/live";
  import { Loader, Pages, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Bar from "../../lib/Bar.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Page from "../../lib/Page.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  const pages = new Pages();
  const restores = new Loader(() =>
    take(api.GET("/restores", { params: { query: { limit: 50, after: pages.after } } }))
  );
  $effect(() => {
    void pages.after;
    return whenChanged(() => restores.load());
  });
  let problem = $state<Problem>();
  async function keep(id: string, lasts: string) {
    problem = undefined;
    try {
      await take(
        api.POST("/restores/{restore}/keep", { params: { path: { restore: id } }, body: { for: lasts } })
      );
      await restores.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  async function decide(id: string, approve: boolean) {
    problem = undefined;
    const params = { path: { restore: id } };
    try {
      if (approve) await take(api.POST("/restores/{restore}/approve", { params }));
      else await take(api.POST("/restores/{restore}/refuse", { params, body: { reason } }));
      refusing = reason = "";
      await restores.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  let refusing = $state("");
  let reason = $state("");
  function scope(s: Schemas["Scope"]): string {
    if (s.run) return `run ${short(s.run)}`;
    if (s.segment) return `segment ${short(s.segment)}`;
    if (s.all) return "every row";
    if (s.rows?.length) return plural(s.rows.length, "picked row");
    return [s.where && `where ${s.where}`, s.from && `from ${s.from}`, s.to && `to ${s.to}`]
      .filter(Boolean)
      .join(" ");
  }
</script>

<Page
  title="Restores"
  about="Archived rows that were asked for. Rows back in their table are left alone by later runs.">
  {#snippet actions()}<Act right="operate" any size="sm" href="#/restores/request">Request a restore</Act
    >{/snippet}
  <Trouble problem={restores.problem ?? problem} />
  <Panel>
    <Listing
      label="Restores"
      heads={["Table", "Which rows", "Into", "State", "#Restored", "#Skipped", "Stay", "Requested"]}
      items={restores.data?.items}>
      {#snippet row(r: Schemas["Restore"])}
        <TableBodyRow>
          <TableBodyCell>{r.source}.{r.table}</TableBodyCell>
          <TableBodyCell class="max-w-96 min-w-56 whitespace-normal"
            >{scope(r.scope)}
            <div class="max-w-64 truncate text-xs text-gray-500 dark:text-gray-400" title={r.note}>
              {r.note}
            </div>
            {#if r.reason && r.state !== "done"}<div
                class="max-w-96 text-xs whitespace-normal {r.state === 'failed'
                  ? 'text-red-700 dark:text-red-400'
                  : ''}">
                {r.reason}
              </div>{/if}
            {#if r.state === "running" && r.of > 0}<div class="mt-1 max-w-64">
                <Bar percent={share(r.found, r.of)} label="progress of the restore" />
              </div>{/if}
            {#if r.state === "asked"}
              {#if refusing === r.id}
                <form
                  class="mt-1 flex items-center gap-2"
                  onsubmit={(e) => {
                    e.preventDefault();
                    decide(r.id, false);
                  }}>
                  <Input
                    size="sm"
                    aria-label="why it is refused"
                    placeholder="why"
                    bind:value={reason} /><Button
                    size="xs"
                    color="red"
                    type="submit"
                    disabled={!reason.trim()}>Refuse</Button>
                </form>
              {:else}
                <div class="mt-1 flex gap-2">
                  <Act right="approve" source={r.source} size="xs" onclick={() => decide(r.id, true)}
                    >Approve</Act
                  ><Act
                    right="approve"
                    source={r.source}
                    size="xs"
                    color="alternative"
                    onclick={() => {
                      refusing = r.id;
                      reason = "";
                    }}>Refuse …</Act>
                </div>
              {/if}
            {/if}</TableBodyCell>
          <TableBodyCell class="max-w-52 break-words whitespace-normal"
            >{#if r.target === "file" && r.state === "done"}<a
                class="text-link"
                href={restoreFile(r.id)}
                download>{r.format}, {size(r.file_bytes)}</a
              >{:else}{r.target === "file"
                ? r.format
                : r.target === "side"
                  ? `side table ${r.target_source}.${r.target_table}`
                  : "the table"}{/if}</TableBodyCell>
          <TableBodyCell
            ><span title={r.reason}><State state={r.state} /></span>{#if r.verified}<div
                class="text-xs text-gray-500 dark:text-gray-400"
                title="what the target holds is what was archived">
                ✓ counts, digest
              </div>{/if}{#if r.tell}<div
                class="text-xs text-gray-500 dark:text-gray-400"
                title="{r.tell} is told">
                {r.told_at ? "asker told" : "asker will be told"}
              </div>{/if}</TableBodyCell>
          <TableBodyCell class="text-right"
            >{count(r.restored)}{#if r.replaced}<div class="text-xs">
                <a
                  class="text-link"
                  href="/api/v1/restores/{encodeURIComponent(r.id)}/replaced"
                  download
                  title="the rows that were there, as they were">{count(r.replaced)} replaced</a>
              </div>{/if}</TableBodyCell>
          <TableBodyCell class="text-right">{count(r.skipped)}</TableBodyCell>
          <TableBodyCell>
            {#if r.expired_at}<span
                title="{count(r.taken_back)} rows taken back; {count(r.stayed)} had been changed and stay"
                >gone since <When at={r.expired_at} day /></span
              >{#if r.stayed}<div class="text-xs">{count(r.stayed)} changed, stay</div>{/if}
            {:else if r.expires_at && r.state === "done"}until <When at={r.expires_at} day />
              <div class="flex gap-2 text-xs">
                <button class="text-link" onclick={() => keep(r.id, "P2D")}>2 days from now</button><button
                  class="text-link"
                  onclick={() => keep(r.id, "")}>for good</button>
              </div>
            {:else if r.target === "table"}for good{:else}–{/if}
          </TableBodyCell>
          <TableBodyCell><When at={r.created_at} day /></TableBodyCell>
        </TableBodyRow>
      {/snippet}
      {#snippet empty()}<Blank title="Nothing has been restored yet"
          >Ask for a run, a segment, or a span of time of a table.</Blank
        >{/snippet}
    </Listing>
  </Panel>
  <Pager {pages} next={restores.data?.next} />
</Page>
