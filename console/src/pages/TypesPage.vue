<script setup lang="ts">
defineOptions({ name: 'TypesPage' })
</script>

<template><div /></template>
