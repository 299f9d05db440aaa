<script lang="ts">
  import type { Snippet } from "svelte";
  import { Heading } from "./ui";
  let {
    title,
    about = "",
    back,
    actions,
    children
  }: {
    title: string;
    about?: string;
    back?: { href: string; text: string };
    actions?: Snippet;
    children: Snippet;
  } = $props();
</script>

<svelte:head><title>{title} · Amber Cellar</title></svelte:head>

<div class="mb-4 flex flex-wrap items-end justify-between gap-3">
  <div class="min-w-0">
    {#if back}<a href={back.href} class="text-link text-sm">← {back.text}</a>{/if}
    <Heading tag="h1" class="text-xl font-semibold break-words">{title}</Heading>
    {#if about}<p class="mt-0.5 text-sm text-gray-600 dark:text-gray-400">{about}</p>{/if}
  </div>
  {#if actions}<div class="flex items-center gap-2 [&_a]:whitespace-nowrap [&_button]:whitespace-nowrap">
      {@render actions()}
    </div>{/if}
</div>
{@render children()}
