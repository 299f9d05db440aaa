<script lang="ts">
  // What was sent to whom, and what waits.
  import { Select, TableBodyCell, TableBodyRow } from "../../lib/ui";
  import { api, take, type Problem, type Schemas } from "../../api/client";
  import { whenChanged } from "../../lib/live";
  import { Loader, Pages, problemOf } from "../../lib/loader.svelte";
  import Act from "../../lib/Act.svelte";
  import Blank from "../../lib/Blank.svelte";
  import Listing from "../../lib/Listing.svelte";
  import Pager from "../../lib/Pager.svelte";
  import Panel from "../../lib/Panel.svelte";
  import State from "../../lib/State.svelte";
  import Trouble from "../../lib/Trouble.svelte";
  import When from "../../lib/When.svelte";

  let { recipients }: { recipients: string[] } = $props();
  let recipient = $state("");
  let standing = $state("");
  let shown = $state("");
  let problem = $state<Problem>();
  const pages = new Pages();
  const list = new Loader(() =>
    take(
      api.GET("/deliveries", {
        params: {
          query: {
            recipient: recipient || undefined,
            state: standing || undefined,
            limit: 20,
            after: pages.after
          }
        }
      })
    )
  );
  $effect(() => {
    void [recipient, standing, pages.after];
    return whenChanged(() => list.load());
  });
  async function act(verb: "/deliveries/{delivery}/resend" | "/deliveries/{delivery}/cancel", id: string) {
    problem = undefined;
    try {
      await take(api.POST(verb, { params: { path: { delivery: id } } }));
      await list.load();
    } catch (e) {
      problem = problemOf(e);
    }
  }
  const states = ["waiting", "sent", "failed", "cancelled"].map((s) => ({ value: s, name: s }));
</script>

<Panel title="Deliveries">
  <Trouble problem={list.problem ?? problem} />
  <div class="flex flex-wrap justify-end gap-2 px-4 py-2">
    <Select
      size="sm"
      class="w-44"
      aria-label="recipient"
      placeholder=""
      items={[{ value: "", name: "to anybody" }, ...recipients.map((r) => ({ value: r, name: r }))]}
      bind:value={recipient}
      onchange={() => pages.reset()} />
    <Select
      size="sm"
      class="w-36"
      aria-label="state"
      placeholder=""
      items={[{ value: "", name: "in any state" }, ...states]}
      bind:value={standing}
      onchange={() => pages.reset()} />
  </div>
  <Listing
    label="Deliveries"
    heads={["Made", "To", "What", "State", "Attempts", ""]}
    items={list.data?.items}>
    {#snippet row(d: Schemas["Delivery"])}
      <TableBodyRow>
        <TableBodyCell><When at={d.made_at} /></TableBodyCell>
        <TableBodyCell title={d.address}>{d.recipient || d.address}</TableBodyCell>
        <TableBodyCell class="max-w-96 whitespace-normal">
          <button
            class="text-link text-left"
            aria-expanded={shown === d.id}
            onclick={() => (shown = shown === d.id ? "" : d.id)}>{d.title}</button>
          {#if shown === d.id}<pre class="mt-1 font-sans text-xs whitespace-pre-wrap">{d.text}</pre>{/if}
          {#if d.error}<div class="mt-0.5 text-xs text-red-700 dark:text-red-400">{d.error}</div>{/if}
        </TableBodyCell>
        <TableBodyCell
          ><State state={d.state} />{#if d.state === "waiting" && d.attempts > 0 && d.next_at}<div
              class="text-xs">
              again <When at={d.next_at} />
            </div>{/if}</TableBodyCell>
        <TableBodyCell class="text-right">{d.attempts}</TableBodyCell>
        <TableBodyCell class="text-right">
          {#if d.state === "waiting"}
            <Act
              right="operate"
              size="xs"
              color="alternative"
              onclick={() => act("/deliveries/{delivery}/resend", d.id)}>Try now</Act>
            <Act
              right="operate"
              size="xs"
              color="alternative"
              onclick={() => act("/deliveries/{delivery}/cancel", d.id)}>Cancel</Act>
          {:else}<Act
              right="operate"
              size="xs"
              color="alternative"
              onclick={() => act("/deliveries/{delivery}/resend", d.id)}>Send again</Act
            >{/if}
        </TableBodyCell>
      </TableBodyRow>
    {/snippet}
    {#snippet empty()}<Blank title="Nothing was sent">What happens from now on stands here.</Blank>{/snippet}
  </Listing>
  <div class="px-4 py-2"><Pager {pages} next={list.data?.next} /></div>
</Panel>
