<script lang="ts">
  // What went wrong, and what to do about it.
  import { Alert } from "./ui";
  import type { Problem } from "../api/client";
  let { problem }: { problem: Problem | undefined } = $props();
</script>

{#if problem}
  <Alert color="red" class="mb-4" role="alert">
    <p class="font-semibold">{problem.title}</p>
    {#if problem.problems?.length}
      <ul class="mt-1 list-disc space-y-1 ps-5">
        {#each problem.problems as p, i (i)}
          <li>
            {#if p.line}{p.file ? `${p.file}, ` : ""}line {p.line}, column {p.column}:{" "}{/if}{#if p.field}<b
                >{p.field}</b
              >:{" "}{/if}{p.message}{#if p.remedy}; {p.remedy}{/if}{#if p.excerpt}<pre
                class="mt-1 overflow-x-auto font-mono text-xs">{p.excerpt}</pre>{/if}
          </li>
        {/each}
      </ul>
    {:else}
      <p class="break-words">
        {#if problem.field}<b>{problem.field}</b>:{" "}{/if}{problem.detail}
      </p>
      {#if problem.remedy}<p class="mt-1">{problem.remedy}</p>{/if}
    {/if}
  </Alert>
{/if}
