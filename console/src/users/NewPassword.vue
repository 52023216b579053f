<script setup lang="ts">
// A new password, typed twice.
defineProps<{ password: string; again: string; problem: string }>()
defineEmits<{ 'update:password': [value: string]; 'update:again': [value: string] }>()
</script>

<template>
  <label>New password<el-input :model-value="password" name="new-password" aria-label="New password" type="password" show-password autocomplete="new-password" @update:model-value="$emit('update:password', $event)" /></label>
  <label>The same again<el-input :model-value="again" name="again" aria-label="The same again" type="password" show-password autocomplete="new-password" @update:model-value="$emit('update:again', $event)" /></label>
  <p class="muted small">10 characters or more. Several words that do not belong together are easy to remember and hard to guess.</p>
  <p v-if="problem" class="problem" role="alert">◆ {{ problem }}</p>
</template>

<style scoped>
label { display: grid; gap: 0.3rem; font-weight: 600; font-size: 0.9rem; }
p { margin: 0; }
.problem { color: var(--critical); font-weight: 600; }
</style>
