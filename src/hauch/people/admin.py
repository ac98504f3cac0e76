from django.contrib import admin
from django.contrib.auth.admin import UserAdmin

from hauch.people.models import AuditEntry, User

admin.site.register(User, UserAdmin)


@admin.register(AuditEntry)
class AuditEntryAdmin(admin.ModelAdmin):
    list_display = ["at", "user", "action", "round", "target"]
    list_filter = ["action", "round"]

    def has_add_permission(self, request):
        return False

    def has_change_permission(self, request, obj=None):
        return False

    def has_delete_permission(self, request, obj=None):
        return False
