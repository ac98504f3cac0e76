from django.apps import AppConfig
from django.db.models.signals import post_migrate


class StoresConfig(AppConfig):
    name = "hauch.stores"
    default_auto_field = "django.db.models.BigAutoField"

    def ready(self) -> None:
        """A new installation begins with the usual materials."""
        post_migrate.connect(usual_materials, sender=self, dispatch_uid="stores.usual_materials")


def usual_materials(sender, using: str, **kwargs) -> None:
    """Put the usual materials where there are none."""
    from hauch.core.strength.material import MATERIALS
    from hauch.stores.models import Material

    if sender.get_models() and not Material.objects.using(using).exists():
        Material.objects.using(using).bulk_create(
            Material(
                key=m.key,
                label=m.label,
                density=m.density,
                along=m.along,
                across=m.across,
                heat=m.heat,
                anneal=m.anneal,
                shrinks=m.shrinks,
                grows=m.grows,
                cautions=m.cautions,
                stiffness=m.stiffness,
            )
            for m in MATERIALS.values()
        )
