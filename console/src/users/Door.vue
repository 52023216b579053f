<script setup lang="ts">
// The card on an empty page through which one comes in.
defineEmits<{ submit: [] }>()
</script>

<template>
  <div class="page">
    <form class="card stack" @submit.prevent="$emit('submit')">
      <div class="row"><img src="/mark.svg" alt="" width="40" height="40" /><h1>Maple Lark</h1></div>
      <slot />
    </form>
  </div>
</template>

<style scoped>
.page { min-height: 100vh; display: grid; place-items: center; padding: 1rem; background: radial-gradient(circle at 70% 15%, #14607f, var(--sea-deep) 60%); }
form { width: min(26rem, 100%); padding: 2rem; }
form :deep(p) { margin: 0; }
form :deep(.problem) { color: var(--critical); font-weight: 600; }
</style>
