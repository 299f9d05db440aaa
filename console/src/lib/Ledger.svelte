<script lang="ts">
  // A run's books as an equation: what was found is what left plus what stayed.
  import type { Schemas } from "../api/client";
  import { count } from "./format";
  let { ledger, action }: { ledger: Schemas["Ledger"]; action: string } = $props();
  let terms = $derived([
    ["deleted", ledger.deleted],
    ["unlinked", ledger.unlinked],
    ["changed", ledger.changed],
    ["vanished", ledger.vanished],
    ["held", ledger.held],
    ["skipped", ledger.skipped]
  ] as const);
  let digests = $derived([
    ["digest copied", ledger.copied_digest],
    ["digest deleted", ledger.deleted_digest],
    ["digest not deleted", ledger.left_digest]
  ]);
</script>

<div class="flex flex-wrap items-center gap-x-3 gap-y-2 px-4 py-3 text-sm" data-testid="ledger">
  <div>
    <div class="text-lg font-semibold">{count(ledger.copied)}</div>
    <div class="text-xs text-gray-500 dark:text-gray-400">{action === "purge" ? "found" : "copied"}</div>
  </div>
  {#each terms as [name, n], i (name)}
    <span class="text-gray-400" aria-hidden="true">{i === 0 ? "=" : "+"}</span>
    <div>
      <div class="text-lg {n > 0 ? 'font-semibold' : 'text-gray-400'}">{count(n)}</div>
      <div class="text-xs text-gray-500 dark:text-gray-400">{name}</div>
    </div>
  {/each}
  <div class="ms-auto text-right">
    {#if ledger.balanced === true}<span class="font-semibold text-green-700 dark:text-green-400"
        >✓ the books balance</span>
    {:else if ledger.balanced === false}<span class="font-semibold text-red-700 dark:text-red-400"
        >✗ the books do not balance</span>
    {:else}<span class="text-gray-500 dark:text-gray-400">books still open</span>{/if}
  </div>
</div>
{#if ledger.balanced !== null}
  <dl
    class="grid gap-x-6 border-t border-gray-100 px-4 py-2 font-mono text-xs text-gray-500
      dark:border-gray-700/60 dark:text-gray-400">
    {#each digests as [name, v] (name)}
      <div class="flex gap-3">
        <dt class="w-32 shrink-0 font-sans">{name}</dt>
        <dd class="truncate" title={v}>{v}</dd>
      </div>
    {/each}
  </dl>
{/if}
